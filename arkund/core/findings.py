"""A Finding: something measured that asks for a decision, with its evidence and the change it suggests."""

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any


def with_minus(text: str) -> str:
    """Return a text with true minus signs before figures."""
    return re.sub(r"(?<![\w.])-(?=\d)", "−", text)


def fitting(sentences: Sequence[str], most: int) -> str:
    """Return as many sentences, from the first one on, as there is room for in so many characters."""
    out = ""
    for each in filter(None, sentences):
        longer = f"{out} {each}".strip()
        if len(longer) > most:
            break
        out = longer
    return out


def capital(text: str) -> str:
    """Return a text that begins with a capital letter, all else as it is."""
    return text[:1].upper() + text[1:]


@dataclass(frozen=True, slots=True)
class Finding:
    """One margin note.

    ``key`` is stable from one measurement to the next, so that a decision is remembered. ``changes`` maps Plan paths to plain values;
    it is empty where only a look is asked for. ``first_choice`` findings are taken by one accept-all; those of one ``kind`` are one deed there, in whose
    title each stands by its ``short`` words.
    """

    step: str
    key: str
    place: str  # what it is pinned to in the chart: a mic id, a piece, or a bar
    title: str
    evidence: str
    changes: dict[str, Any] = field(default_factory=dict)
    first_choice: bool = True
    kind: str = ""
    short: str = ""
