"""The one click's mix: what is wanted (objective), what may be moved and how far (levers), how it is found (solver), and what holds it back (advice)."""
