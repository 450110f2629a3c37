"""Arkund turns a raw multi-microphone drum recording into a punchy kit."""

__version__ = "0.1.0"
