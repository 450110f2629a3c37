"""The pieces of a kit, the roles of mics, and how both are grouped."""

PIECES = ("kick", "snare", "hihat", "tom1", "tom2", "tom3", "tom4", "floor", "ride", "crash", "kit")
LAYER = "layer"  # of a strip whose sound is made: no recording has it
ROLES = ("in", "out", "sub", "top", "bottom", "close", "spot", "overhead", "room", "talkback", LAYER)
CLOSE_ROLES = ("in", "out", "sub", "top", "bottom", "close", "spot")
GROUPS = ("kick", "snare", "toms", "cymbals", "overheads", "rooms")


def group_of(piece: str, role: str) -> str:
    """Return the group that a mic belongs to unless it is put into another one."""
    if role in ("room", "talkback"):
        return "rooms"
    if role == "overhead":
        return "overheads"
    if piece in ("kick", "snare"):
        return piece
    return "toms" if is_tom(piece) else "cymbals"


def kit_order(mic) -> tuple:
    """Return a key that sorts mics (anything with .piece, .role, .name) as engineers list them: kick first, rooms last."""
    return PIECES.index(mic.piece), ROLES.index(mic.role), mic.name


WORDS = {"hihat": "hi-hat", "floor": "floor tom"} | {f"tom{n}": f"tom {n}" for n in range(1, 5)}


def words_of(piece: str, role: str = "") -> str:
    """Return a piece, or a mic by its piece and role, as engineers write it: "kick in", "hi-hat", "overhead"."""
    if piece == "kit":
        return role or "kit"
    drum = WORDS.get(piece, piece)
    return drum if role in ("", "close", "spot") else f"{drum} {role}"


def is_tom(piece: str) -> bool:
    """Say whether a piece is a rack or floor tom."""
    return piece.startswith("tom") or piece == "floor"


def is_shell(piece: str) -> bool:
    """Say whether a piece is a drum: kick, snare or a tom."""
    return piece in ("kick", "snare") or is_tom(piece)


def has_low_end(piece: str) -> bool:
    """Say whether a piece has a low end that is looked at by itself."""
    return piece == "kick" or is_tom(piece)


def is_close(role: str) -> bool:
    """Say whether a mic stands at its own piece."""
    return role in CLOSE_ROLES


# Which mic of a piece its hits are timed in, best first.
TIMING_ROLES = ("in", "top", "close", "spot", "out", "bottom", "sub")


def timing_mic(mics, piece: str):
    """Return the mic (anything with .piece and .role) in which a piece's times are defined, or None."""
    own = [mic for mic in mics if mic.piece == piece and mic.role in TIMING_ROLES]
    return min(own, key=lambda mic: TIMING_ROLES.index(mic.role)) if own else None
