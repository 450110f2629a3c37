"""Loaded before anything else (``addopts`` in pyproject.toml): tests never touch a user's data folder."""

import os
import tempfile

os.environ["ARKUND_BACKGROUND"] = "0"
os.environ["ARKUND_DATA"] = tempfile.mkdtemp(prefix="arkund-test-")
