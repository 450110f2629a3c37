"""A starting shaper and compressor per mic, solved for what is wanted of them and measured at its own hits; overheads that give way to the snare."""

from arkund.core.findings import Finding
from arkund.core.kit.pieces import is_shell, is_tom
from arkund.core.punch.solve import LEAST_CHANGE_DB, Solved, Wanted
from arkund.core.tools.compressor import Compressor
from arkund.core.tools.shaper import Shaper
from arkund.core.tools.tool import Key

LEFT_DB = 0.5  # of the reduction, at the usual next hit
WANTED = {
    "natural": Wanted(reduction_db=2.5, left_db=LEFT_DB, attack_db=1.5, as_loud=True),
    "punchy": Wanted(reduction_db=4.0, left_db=LEFT_DB, attack_db=3.0, as_loud=True),
    "heavy": Wanted(reduction_db=6.0, left_db=LEFT_DB, attack_db=4.0, as_loud=True),
}
TUCK, TUCKED = "tuck", Wanted(reduction_db=4.0)  # the overheads' compressor that the snare leads
UNDER = "snare"


def first_settings(mic) -> tuple[Shaper, Compressor] | None:
    """Return shaper and compressor for one shell mic, before anything is solved for; None for what is no shell."""
    if not is_shell(mic.piece):
        return None
    ratio, attack_ms = (4.0, 20.0) if mic.piece == "snare" else (4.0, 15.0) if mic.piece == "kick" else (3.0, 20.0)
    if mic.role in ("bottom", "sub"):
        ratio = 3.0
    compressor = Compressor(on=True, ratio=ratio, attack_ms=attack_ms)
    return Shaper(on=True, attack_db=3.0, sustain_db=-2.0 if is_tom(mic.piece) else 0.0), compressor


def propose(mic, solved: Solved) -> Finding | None:
    """Return what was solved for a mic as a Finding; None where it would change nothing that is heard, or takes a setting to the end of its range."""
    if solved.at_end:
        return None
    if abs(solved.reached["attack"]) < LEAST_CHANGE_DB and solved.reached["reduction"] < LEAST_CHANGE_DB:
        return None
    return Finding("punch", f"punch:{mic.id}", mic.id, solved.title, solved.words, solved.values, first_choice=False)


def tucked() -> Compressor:
    """Return the compressor by which overheads give way at each stroke of the snare."""
    key = Key(of=f"hits:{UNDER}", length_ms=60.0)
    return Compressor(id=TUCK, on=True, ratio=2.5, attack_ms=2.0, release_ms=200.0, key=key)


def propose_tuck(group_id: str, solved: Solved) -> Finding | None:
    """Return that as a Finding, with what it costs the cymbals between the strokes."""
    if solved.missed or solved.at_end:
        return None
    title = f"Overheads tucked under the {UNDER}: {solved.reached['reduction']:.0f} dB at its strokes"
    return Finding("punch", "punch:tuck", group_id, title, solved.words, solved.values, first_choice=False)
