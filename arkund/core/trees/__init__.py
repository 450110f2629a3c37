"""Boosted decision trees: how what was taught is asked."""
