"""Primitives that know nothing of drums: filters, followers, dynamics, delay, spectrum, loudness.

bank        several channels processed in lock-step by compiled kernels
filters     analogue prototypes matched in the digital domain
followers   envelope followers for measuring
delay       fractional delay and correlation of arrival
spectrum    averaged power spectra
loudness    ITU-R BS.1770 loudness and true peak
limiter     true-peak limiter
"""
