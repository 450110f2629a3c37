"""Where what lies in a drum's spectrum, usually: a quiet ground under what is measured. Frequencies in Hz."""

from arkund.core.kit.pieces import is_tom

Zone = tuple[str, float, float]
KICK = (
    ("rumble", 20, 38),
    ("fundamental", 45, 65),
    ("weight", 80, 110),
    ("box", 200, 500),
    ("beater", 2500, 5000),
    ("snap", 10_000, 12_000),
)
SNARE = (
    ("kick’s bleed", 30, 100),
    ("body", 150, 250),
    ("box", 400, 800),
    ("crack", 1800, 5000),
    ("wires", 5000, 10_000),
)
BOTTOM = (("below the wires", 20, 220), ("wires", 2000, 10_000))
TOM = (("below", 20, 60), ("fundamental", 80, 220), ("box", 400, 600), ("stick", 3000, 5000), ("air", 9000, 12_000))
CYMBAL = (("drums", 20, 320), ("stick", 2000, 4500), ("shimmer", 7000, 14_000))
OVERHEAD = (("kick", 20, 100), ("low mids", 250, 700), ("lift", 7000, 10_000), ("fall", 16_000, 20_000))
ROOM = (("rumble", 20, 60), ("low mids", 200, 500))
BY_PIECE = {"kick": KICK, "snare": SNARE, "hihat": CYMBAL, "ride": CYMBAL, "crash": CYMBAL}
BY_ROLE = {"overhead": OVERHEAD, "room": ROOM, "talkback": ROOM}


def zones_of(piece: str, role: str) -> tuple[Zone, ...]:
    """Return the zones of a mic by what it is; none for what is unknown."""
    if role == "bottom":
        return BOTTOM
    if is_tom(piece):
        return TOM
    return BY_PIECE.get(piece) or BY_ROLE.get(role, ())
