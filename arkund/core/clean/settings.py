"""How clean a kit is meant to be, and what may be done with one mic: the schools."""

from dataclasses import dataclass

from arkund.core.kit.pieces import is_tom
from arkund.core.settings import Settings, choice

LOOKS = {
    "tight": "Silence between the hits of toms, little elsewhere: dense, fast, heavy music.",
    "some life": "Toms far down between their hits, kick a little; the rest lives.",
    "open": "Nothing is turned down: the bleed is part of the sound.",
}
# The tools that clean, and which of their settings says how far down.
DEPTH = {"regions": "down_db", "gate": "range_db"}
WAYS = ("gate", "cut", "leave")
DOWN_DB = {"tight": {"tom": 60.0, "kick": 24.0, "snare": 16.0}, "some life": {"tom": 24.0, "kick": 14.0, "snare": 12.0}}
FOLLOWED_DB = 30.0  # how far a drum has rung out when its gate or region closes, where no style says so
RINGS_OUT_DB = {"natural": 40.0, "punchy": FOLLOWED_DB, "heavy": 25.0}
TIGHT_DB = 25.0  # no further than this where the kit is to be tight
OTHERS_DB = 12.0  # of what is cleaned by hand alone
BOTTOM_DB = 10.0  # of a snare's bottom: its wires answer the whole kit, and belong to it


@dataclass(frozen=True, slots=True, kw_only=True)
class Cleaning(Settings):
    """What the proposal aims at for the whole kit."""

    look: str = choice("some life", tuple(LOOKS))


def cleans(tool) -> bool:
    """Say whether a tool that is on turns down what is not the mic's own: a gate that ducks makes room for others in place of that."""
    return tool.on and tool.kind in DEPTH and getattr(tool, "does", "opens") == "opens"


def usual_down_db(piece: str, role: str) -> float:
    """Return how far a mic is turned down where nobody has said how clean the kit is meant to be."""
    return down_db(Cleaning().look, piece, role) or OTHERS_DB


def down_db(look: str, piece: str, role: str) -> float:
    """Return how far a mic is turned down between its hits, in dB; 0 where the bleed is part of the sound."""
    rows = DOWN_DB.get(look, {})
    usual = rows.get("tom" if is_tom(piece) else piece, 0.0)
    return min(usual, BOTTOM_DB) if role == "bottom" else usual


def followed_db(look: str, style: str) -> float:
    """Return how far a drum is followed as it rings out, in dB under its hit."""
    return min(RINGS_OUT_DB[style], TIGHT_DB) if look == "tight" else RINGS_OUT_DB[style]
