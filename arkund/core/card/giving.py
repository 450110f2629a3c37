"""What gives way: figures that may stand further off, for those that would be further off than in the raw kit."""

from arkund.core.card.targets import CHANGES, TARGETS, Figures, about, beyond, nearer_by

GIVES = 1.5  # of a dB that something lacks that others give way to
STAYS_DB = 0.5  # nearer than in the raw kit: up to then what gave way does not come back
SURELY_INSIDE_DB = 0.3  # of what gives way, before it would be further off than the raw kit
# What gives way, whether by rising, and to what: figures that are too low (-1) or too high.
GIVERS = (
    ("cymbals", False, (("contrast", -1),)),
    ("contrast", False, (("cymbals", -1),)),
    ("density", True, (("contrast", -1), ("attack", -1), ("ghosts", 1), ("cymbals", 1), ("kick", -1), ("toms", -1))),
)


def given_way(missed: dict[str, float], figures: Figures, raw: Figures, school: str) -> dict[str, float]:
    """Return what figures miss by where something is further off than in the raw kit, and others give way to it as far as they are no further than they were:
    hats and ride go down for hits that stand out less, or those stand out less for hats too soft; peaks come back for those, for strokes softer against their
    body, ghosts and hats too near, and kicks and toms that are rounded off.
    """
    out, targets = dict(missed), TARGETS[school]
    for giver, rises, takers in GIVERS:
        value, (low, high) = about(giver, figures, raw), targets[giver]
        before = 0.0 if giver in CHANGES else raw[giver]
        nearer = [
            nearer_by(key, figures, raw, targets[key])
            for key, sign in takers
            if sign * beyond(key, about(key, figures, raw), school) > 0.0
        ]
        lacks = [max(-by, 0.0) for by in nearer if by < STAYS_DB]
        if value is None or before is None or not lacks:
            continue
        # It stays where what it gave to is hardly any nearer than in the raw kit, and goes back by what it is further off itself.
        room = (max(before, high) - value if rises else value - min(before, low)) - SURELY_INSIDE_DB
        out[giver] = (-1.0 if rises else 1.0) * min(GIVES * max(lacks), room)
    return out
