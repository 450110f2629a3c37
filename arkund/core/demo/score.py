"""What the drummer plays: strokes in time, by style, with feel and with the cases that are hard to tell apart.

All randomness comes from one seeded generator. Levels are dB against a full stroke of the same piece.
"""

from dataclasses import dataclass

import numpy as np

GHOST_BELOW_DB = -17.0  # a snare stroke softer than this against a full one is a ghost note
BEATS = {"sixeight": 2, "three": 3}  # of a bar; all others have four
CORRECTED = 0.25  # of the distance from the click, at each beat
FOOT_UNDER = {"snare": 0.35, "kick": 0.1, "ride": 0.1}  # how often a hat is closed by the foot under a stroke
PEDAL = 0.8  # the same under back-beats while the ride keeps time
HARD_CASES = (
    "kick_with_snare",  # kick and snare 0-25 ms apart, either order
    "ghost_by_other",  # a ghost note within 12 ms of a kick, tom or hat
    "foot_hats",  # closed by the foot under a snare, kick or ride stroke: a soft, dull chick
    "soft_hats",  # soft hats beside a loud snare
    "tom_with_kick_or_snare",
    "unmiked_cymbals",  # crashes and a ride without a mic of their own, in the hat mic
    "count_in",
    "open_hat_ringing",
)


@dataclass(frozen=True, slots=True)
class Stroke:
    """One strike: when the stick or beater touches, in seconds."""

    time_s: float
    piece: str
    level_db: float
    articulation: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Playing:
    """How a part is played."""

    style: str = "straight"  # straight, busy, slow, sixeight, three
    bpm: float = 120.0
    bars: int = 8
    start_s: float = 1.0
    seed: int = 1
    spread_ms: float = 4.0  # human spread of each stroke
    push_ms: float = 0.0  # snare against the grid; negative = early
    drift_ms_per_bar: float = 0.0
    wander_ms: float = 0.0  # rms: how far the whole playing strays around a steady click, which it comes back to
    loose_percent: float = 0.0  # without a click: by how much the tempo of a bar differs from that of the bar before
    hard: tuple[str, ...] = ()
    cymbal: str = "hihat"  # what keeps time
    hat_db: float = -6.0
    fills: bool = True
    flam_share: float = 0.0  # of backbeats played as flams
    floor_fills: bool = True


def bar_s(playing: Playing) -> float:
    """Return the length of a bar in seconds (6/8 counts its bpm in dotted quarters)."""
    return BEATS.get(playing.style, 4) * 60.0 / playing.bpm


def lines_s(playing: Playing) -> np.ndarray:
    """Return when each bar begins and the last ends, in seconds [shape=(bars + 1,)]; without a click no two are alike."""
    steps = np.full(playing.bars, bar_s(playing))
    if playing.loose_percent:
        walk = np.random.default_rng([playing.seed, 17]).normal(0.0, playing.loose_percent / 100.0, playing.bars)
        steps = steps * np.exp(np.cumsum(walk))
    return (
        playing.start_s
        + np.concatenate([[0.0], np.cumsum(steps)])
        + playing.drift_ms_per_bar / 1000.0 * np.arange(playing.bars + 1)
    )


def _strayed(playing: Playing):
    """Return how late the playing as a whole is at a moment, as a function of seconds.

    A drummer corrects about a quarter of what he hears himself beside the click at each beat. (D. Vorberg and H.-H. Schulze, Linear phase-correction in
    synchronization, J. Math. Psychol. 2002)
    """
    if not playing.wander_ms:
        return lambda time_s: 0.0
    beats = playing.bars * BEATS.get(playing.style, 4) + 8
    noise = np.random.default_rng([playing.seed, 18]).standard_normal(beats)
    late, kept = np.zeros(beats), 1.0 - CORRECTED
    for k in range(1, beats):
        late[k] = kept * late[k - 1] + np.sqrt(1.0 - kept**2) * noise[k]
    at = playing.start_s + (np.arange(beats) - 4) * 60.0 / playing.bpm
    return lambda time_s: playing.wander_ms / 1000.0 * float(np.interp(time_s, at, late))


def play(playing: Playing) -> list[Stroke]:
    """Return the strokes of a part, sorted by time."""
    rng = np.random.default_rng(playing.seed)
    strokes: list[Stroke] = []
    length, lines, strayed = bar_s(playing), lines_s(playing), _strayed(playing)
    if "count_in" in playing.hard:
        strokes += [Stroke(playing.start_s - (4 - k) * length / 4, "sticks", -2.0) for k in range(4)]
    for bar in range(playing.bars):
        at, lasts = lines[bar], lines[bar + 1] - lines[bar] - playing.drift_ms_per_bar / 1000.0
        fill = playing.fills and bar % 4 == 3
        bar_strokes = _PATTERNS[playing.style](playing, rng, fill)
        if bar % 4 == 0 and bar:
            bar_strokes.append((0.0, "crash", rng.uniform(-5, -1), ""))
        for place, piece, level, articulation in bar_strokes:
            late = rng.normal(0.0, playing.spread_ms / 1000.0)
            late += playing.push_ms / 1000.0 if piece == "snare" and level > GHOST_BELOW_DB else 0.0
            meant_s = at + place * lasts
            strokes.append(Stroke(meant_s + strayed(meant_s) + late, piece, float(level), articulation))
    strokes = _make_hard(strokes, playing, rng)
    return _playable(strokes)


def _back(rng) -> float:
    return rng.uniform(-3.5, 0.0)


def _ghost(rng) -> float:
    return rng.uniform(-26.0, -20.0)


def _keeper(playing: Playing, rng, places, fill: bool) -> list[tuple]:
    out = []
    for k, place in enumerate(places):
        if fill and place >= 0.5:
            continue
        level = playing.hat_db + (0.0 if k % 2 == 0 else -4.0) + rng.uniform(-2.0, 1.0)
        shape = "closed" if playing.cymbal == "hihat" else ""
        if "open_hat_ringing" in playing.hard and playing.cymbal == "hihat" and rng.random() < 0.3:
            shape = "open"
        out.append((place, playing.cymbal, level, shape))
    return out


def _fill(playing: Playing, rng, step: float) -> list[tuple]:
    toms = ["snare", "tom1", "tom2"] + (["floor"] if playing.floor_fills else [])
    places = np.arange(0.5, 0.999, step)
    order = np.sort(rng.integers(0, len(toms), places.size))
    out = [(p, toms[o], rng.uniform(-7, -1), "") for p, o in zip(places, order, strict=True) if rng.random() < 0.85]
    if not any(piece.startswith(("tom", "floor")) for _, piece, _, _ in out):
        out.append((0.875, "tom1", -3.0, ""))
    return out


def _straight(playing: Playing, rng, fill: bool) -> list[tuple]:
    out = _keeper(playing, rng, np.arange(8) / 8, fill)
    out += [(0.0, "kick", rng.uniform(-3, 0), ""), (0.5, "kick", rng.uniform(-3, 0), "")]
    if rng.random() < 0.6:
        out.append((0.625, "kick", rng.uniform(-6, -2), ""))
    if rng.random() < 0.3:
        out.append((0.375, "kick", rng.uniform(-6, -2), ""))
    backs = [0.25] if fill else [0.25, 0.75]
    out += [(place, "snare", _back(rng), "") for place in backs]
    if not fill:
        out += [(p, "snare", _ghost(rng), "") for p in (7 / 16, 9 / 16, 15 / 16) if rng.random() < 0.35]
    return out + (_fill(playing, rng, 1 / 16) if fill else [])


def _busy(playing: Playing, rng, fill: bool) -> list[tuple]:
    out = _keeper(playing, rng, np.arange(16) / 16, fill)
    for k in range(16):
        if fill and k >= 8:
            break
        if k in (4, 12):
            out.append((k / 16, "snare", _back(rng), ""))
        elif rng.random() < 0.3:
            out.append((k / 16, "snare", _ghost(rng), ""))
        if k in (0, 10) or (k not in (4, 12) and rng.random() < 0.22):
            out.append((k / 16, "kick", rng.uniform(-7, 0), ""))
    return out + (_fill(playing, rng, 1 / 16) if fill else [])


def _slow(playing: Playing, rng, fill: bool) -> list[tuple]:
    out = _keeper(playing, rng, np.arange(8) / 8, fill)
    out += [(0.0, "kick", rng.uniform(-3, 0), ""), (0.25, "snare", _back(rng), "")]
    if rng.random() < 0.7:
        out.append((0.4375, "kick", rng.uniform(-6, -1), ""))
    if not fill:
        out += [(0.5, "kick", rng.uniform(-3, 0), ""), (0.75, "snare", _back(rng), "")]
        out += [(p / 16, "snare", _ghost(rng), "") for p in (5, 7, 11, 15) if rng.random() < 0.3]
    return out + (_fill(playing, rng, 1 / 8) if fill else [])


def _sixeight(playing: Playing, rng, fill: bool) -> list[tuple]:
    out = _keeper(playing, rng, np.arange(6) / 6, fill)
    out += [(0.0, "kick", rng.uniform(-3, 0), "")]
    if rng.random() < 0.5:
        out.append((5 / 6, "kick", rng.uniform(-6, -2), "")) if not fill else None
    if fill:
        return out + _fill(playing, rng, 1 / 12)
    out += [(0.5, "snare", _back(rng), "")]
    return out + [(p, "snare", _ghost(rng), "") for p in (1 / 3, 2 / 3, 5 / 6) if rng.random() < 0.35]


def _three(playing: Playing, rng, fill: bool) -> list[tuple]:
    out = _keeper(playing, rng, np.arange(6) / 6, fill)
    out += [(0.0, "kick", rng.uniform(-3, 0), "")]
    if rng.random() < 0.3:
        out.append((1 / 6, "kick", rng.uniform(-6, -2), ""))
    backs = ((1 / 3, 2 / 3), (2 / 3,))[playing.seed % 2]
    out += [(place, "snare", _back(rng), "") for place in backs if not (fill and place >= 0.5)]
    if fill:
        return out + _fill(playing, rng, 1 / 12)
    return out + [(p, "snare", _ghost(rng), "") for p in (1 / 4, 5 / 12, 11 / 12) if rng.random() < 0.3]


_PATTERNS = {"straight": _straight, "busy": _busy, "slow": _slow, "sixeight": _sixeight, "three": _three}


def _make_hard(strokes: list[Stroke], playing: Playing, rng) -> list[Stroke]:
    hard, out = playing.hard, []
    for s in strokes:
        out.append(s)
        back = s.piece == "snare" and s.level_db > GHOST_BELOW_DB
        if back and "kick_with_snare" in hard and rng.random() < 0.35:
            out.append(Stroke(s.time_s + rng.uniform(-0.025, 0.025), "kick", rng.uniform(-6, 0)))
        under = FOOT_UNDER.get(s.piece, 0.0) if s.level_db > GHOST_BELOW_DB else 0.0
        under = PEDAL if back and playing.cymbal == "ride" else under
        if "foot_hats" in hard and under and rng.random() < under:
            out.append(Stroke(s.time_s + rng.normal(0, 0.004), "hihat", rng.uniform(-16, -7), "foot"))
        if s.piece in ("kick", "hihat") and "ghost_by_other" in hard and rng.random() < 0.15:
            out.append(Stroke(s.time_s + rng.uniform(-0.012, 0.012), "snare", _ghost(rng)))
        if s.piece in ("kick", "snare") and "tom_with_kick_or_snare" in hard and rng.random() < 0.08:
            tom = ("tom1", "tom2", "floor")[int(rng.integers(0, 3))]
            out.append(Stroke(s.time_s + rng.normal(0, 0.005), tom, rng.uniform(-8, -1)))
        if "unmiked_cymbals" in hard and s.piece == "kick" and rng.random() < 0.12:
            out.append(Stroke(s.time_s + rng.normal(0, 0.004), "crash", rng.uniform(-6, 0)))
        if back and rng.random() < playing.flam_share:
            out.append(Stroke(s.time_s - rng.uniform(0.018, 0.035), "snare", s.level_db - rng.uniform(6, 11)))
    if "soft_hats" in hard:
        out = [Stroke(s.time_s, s.piece, s.level_db - 9.0, s.articulation) if s.piece == "hihat" else s for s in out]
    return out


def _playable(strokes: list[Stroke]) -> list[Stroke]:
    """Sort by time and drop what no drummer does: the same piece struck twice within 15 ms."""
    kept: list[Stroke] = []
    last: dict[str, Stroke] = {}
    for s in sorted(strokes, key=lambda s: s.time_s):
        before = last.get(s.piece)
        gap = 0.055 if s.level_db < GHOST_BELOW_DB or (before and before.level_db < GHOST_BELOW_DB) else 0.015
        if s.time_s < 0.02 or (before is not None and s.time_s - before.time_s < gap):
            continue
        last[s.piece] = s
        kept.append(s)
    return kept
