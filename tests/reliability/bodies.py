"""What pages send to each JSON address, and values that make no sense there."""

STRANGE = [
    None,
    True,
    -1,
    0,
    1e308,
    -1e308,
    2**63,
    10**400,
    0.5,
    "",
    "x" * 5000,
    "../../etc/passwd",
    "\u0000",
    "\ud800",
    [],
    {},
    [[]],
    {"id": 1},
    [None],
    "NaN",
]


def valid_bodies(version: int) -> dict[str, dict]:
    """Return a body that each address below a session takes, by its last part."""
    return {
        "moves": {
            "changes": {"mics.sn-top.trim_db": -1.0},
            "version": version,
            "step": "level",
            "title": "x",
        },
        "decide": {"step": "level", "key": "level:kit", "verdict": "leave", "reason": "", "version": 0},
        "take": {"take": "take-1", "version": 0, "look": False},
        "quantise": {"settings": {"first_bar": 0, "last_bar": 1, "grid": 16, "strength": 50.0}, "version": 0},
        "stroke": {"time_s": 2.5, "by_ms": 3.0, "version": 0},
        "line": {"bar": 1, "time_s": 2.0, "version": 0},
        "comp": {"action": "use", "take": "take-1", "first_bar": 0, "last_bar": 1, "from_bar": 1, "version": 0},
        "template": {"name": "x", "version": 0},
        "hit": {"change": {"kind": "add", "piece": "kick", "time_s": 1.0}, "version": 0},
        "replace-hit": {"piece": "kick", "action": "capture", "time_s": 1.0, "version": 0},
        "audition": {
            "start": 0,
            "stop": 4800,
            "what": "kit",
            "version": "after",
            "step": "tone",
            "changes": {},
            "client": "c",
            "number": 1,
            "part": [0, 2400],
            "matched": 0.0,
        },
        "print-now": {"format": "wav24"},
        "tempo": {},
        "undo": {},
        "redo": {},
    }
