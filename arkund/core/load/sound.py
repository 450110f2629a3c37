"""What a mic sounds like at its own loudest moments, and which mic of a kit that is likely to be, whatever its file is called."""

import itertools
from collections.abc import Callable, Mapping, Sequence
from functools import cache
from importlib.resources import files

import numpy as np

from arkund.core.beside import shared
from arkund.core.dsp.envelope import frame_peaks
from arkund.core.kit.pieces import is_tom
from arkund.core.trees.trees import Trees
from arkund.core.units import db_to_gain, gain_to_db, power_to_db

KINDS = (
    "kick in",
    "kick out",
    "kick sub",
    "snare top",
    "snare bottom",
    "hihat",
    "tom",
    "floor",
    "ride",
    "overhead",
    "room",
    "talkback",
)
LOUDEST = 32  # moments that are looked at
APART_S = 0.08
BEFORE_S, WINDOW_S, TAIL_S = 0.002, 0.06, 0.16
EDGES_HZ = np.geomspace(30.0, 16_000.0, 15)
FLOOR_DB = -55.0
TINY = 1e-12
EARLY_S = 0.006
TOM_HZ = (60.0, 280.0)
RING_AFTER_S, RING_S, RING_BINS = 0.02, 0.25, 1 << 16
RINGS = 3  # a rare tom is not struck more often
LATE_BEFORE_S, LATE_AFTER_S = 0.03, 0.012
TAKES_PART = 0.35  # of its usual loud moment
ONSET_SHARE = 0.3
FIRST_MS = 0.4
BUSY_DB = -14.0  # moments this far below the loudest still count as busy
FRAME_S = 0.002
AVERAGE_BEFORE_S, AVERAGE_S, FADE_S = 0.01, 0.5, 0.1
AVERAGE_PEAK_DB = -9.0
LEAST_LOG = -12.0

Read = Callable[[int, int], np.ndarray]


def kind_of(piece: str, role: str) -> str | None:
    """Return which of KINDS a mic is by its name, None for one that is not told apart."""
    if role in ("overhead", "room", "talkback"):
        return role
    if is_tom(piece):
        return "floor" if piece == "floor" else "tom"
    if piece in ("hihat", "ride"):
        return piece
    known = f"{piece} {'in' if (piece, role) == ('kick', 'close') else 'top' if (piece, role) == ('snare', 'close') else role}"
    return known if known in KINDS else None


def loudest_moments(read: Read, length: int, sample_rate_hz: int) -> tuple[np.ndarray, float]:
    """Return the samples at which the loudest sounds of a mic begin, and how many sounds a second come near to them."""
    rate, frame = sample_rate_hz, max(int(FRAME_S * sample_rate_hz), 1)
    level = frame_peaks(read, length, frame)
    if level.size < 10 or level.max() < 1e-4:
        return np.zeros(0, int), 0.0
    before = np.concatenate([np.full(5, level[:1].item()), level[:-5]])
    rise = level - np.minimum.reduce([before, np.roll(before, 1), np.roll(before, 2)])
    order, apart = np.argsort(rise)[::-1][: level.size // 4], int(APART_S / FRAME_S)
    taken, chosen = np.zeros(level.size + 2 * apart, bool), []
    limit = rise[order[0]] * db_to_gain(BUSY_DB)
    for at in order:
        if rise[at] < limit:
            break
        if not taken[at + apart]:
            chosen.append(int(at))
            taken[at : at + 2 * apart + 1] = True
    busy = len(chosen) / max(length / rate, 1e-9)
    return np.array(chosen[:LOUDEST]) * frame, busy


def features_of(readers: Sequence, sample_rate_hz: int) -> list[np.ndarray | None]:
    """Return what tells the mics of one take apart, each float64 [shape=(features,)]: its own sound, that sound against the other mics',
    and how late it hears what it hears loudest; None for silence. A reader may be None.
    """

    def moments_of(reader) -> tuple[np.ndarray, float]:
        return loudest_moments(reader.read, reader.length, sample_rate_hz) if reader else (np.zeros(0, int), 0.0)

    found = shared(moments_of, readers)
    usable = [k for k, (moments, _) in enumerate(found) if moments.size >= 3]
    own = {k: _own(readers[k].read, *found[k], sample_rate_hz) for k in usable}
    typical = {k: _typical(readers[k].read, found[k][0], sample_rate_hz) for k in usable}
    common = np.mean([mine[: EDGES_HZ.size - 1] for mine in own.values()], axis=0) if own else 0.0
    out: list[np.ndarray | None] = [None] * len(readers)
    for k in usable:
        late = _lateness(k, found[k][0], {j: readers[j].read for j in usable}, typical, sample_rate_hz)
        out[k] = np.concatenate([own[k], own[k][: EDGES_HZ.size - 1] - common, late])
    return out


def fundamental_hz(reader, sample_rate_hz: int) -> float | None:
    """Return the pitch of a tom by the ring of its own loudest moments, None for silence. It asks for no hits, so that it can be known before any is found."""
    moments, _ = loudest_moments(reader.read, reader.length, sample_rate_hz)
    if moments.size < 2:
        return None
    size = int(RING_S * sample_rate_hz)
    window = np.hanning(size)
    after = int(RING_AFTER_S * sample_rate_hz)
    rings = np.stack([reader.read(int(at) + after, int(at) + after + size) * window for at in moments])
    power = np.abs(np.fft.rfft(rings, RING_BINS, axis=1)) ** 2
    hz = np.fft.rfftfreq(RING_BINS, 1 / sample_rate_hz)
    band = (hz >= TOM_HZ[0]) & (hz <= TOM_HZ[1])
    loud = power[:, band].sum(axis=1)
    own = power[loud >= np.quantile(loud, 0.5)].mean(
        axis=0
    )  # the tom itself rings lowest and longest of all that it hears
    return round(float(hz[band][np.argmax(own[band])]), 1)


def average_hit(read: Read, length: int, sample_rate_hz: int) -> np.ndarray | None:
    """Return what a mic hears at its loudest moments on the average, to be listened to: float32 [shape=(samples,)], AVERAGE_S long; None for silence.

    The moments are laid over each other by the first sample above ONSET_SHARE of each one's peak. What differs from hit to hit, bleed above all, averages away;
    so does noise by itself, but it keeps its colour and its fall, and the whole is brought to AVERAGE_PEAK_DB.
    """
    moments, _ = loudest_moments(read, length, sample_rate_hz)
    before, size = (int(seconds * sample_rate_hz) for seconds in (AVERAGE_BEFORE_S, AVERAGE_S))
    total = np.zeros(size)
    for at in moments:
        first = max(int(at) - before, 0)
        near = np.abs(read(first, first + 3 * before))
        onset = first + int(np.argmax(near >= ONSET_SHARE * near.max()))
        total += read(onset - before // 2, onset - before // 2 + size)
    peak = float(np.max(np.abs(total)))
    if peak == 0.0:
        return None
    fade = np.minimum(1.0, np.arange(size, 0, -1) / (FADE_S * sample_rate_hz))
    return (total * fade * (db_to_gain(AVERAGE_PEAK_DB) / peak)).astype(np.float32)


def _typical(read: Read, moments: np.ndarray, rate: int) -> float:
    """Return a mic's peak at its usual loud moment."""
    return float(np.median([np.abs(read(int(at) - rate // 500, int(at) + rate // 50)).max() for at in moments]))


def _lateness(
    mine: int, moments: np.ndarray, reads: dict[int, Read], typical: dict[int, float], rate: int
) -> list[float]:
    """Return how late a mic hears its loudest moments against whichever mic takes part first, and how often it is the first itself."""
    before, after = int(LATE_BEFORE_S * rate), int(LATE_AFTER_S * rate)
    late = []
    for at in moments:
        onsets = {}
        for k, read in reads.items():
            size = np.abs(read(int(at) - before, int(at) + after))
            if k == mine or size.max() >= TAKES_PART * typical[k]:
                onsets[k] = int(np.argmax(size >= ONSET_SHARE * size.max())) / rate * 1000
        late.append(onsets[mine] - min(onsets.values()))
    first = float(np.mean(np.array(late) < FIRST_MS))
    return [
        4.0 * float(np.log2(np.median(late) + 0.3)),
        4.0 * float(np.log2(np.quantile(late, 0.25) + 0.3)),
        10.0 * first,
    ]


def _own(read: Read, moments: np.ndarray, busy: float, sample_rate_hz: int) -> np.ndarray:
    """Return a mic's own sound: the spectrum of its loudest moments, how fast low and high parts fall, how direct it is and how busy."""
    rate = sample_rate_hz
    before, size, tail = (int(s * rate) for s in (BEFORE_S, WINDOW_S, TAIL_S))
    sound = np.stack([read(int(at) - before, int(at) + tail) for at in moments]).astype(np.float64)
    window = np.hanning(size * 2)[size:]
    hz = np.fft.rfftfreq(size, 1 / rate)
    now, later = (np.abs(np.fft.rfft(sound[:, a : a + size] * window, axis=1)) ** 2 for a in (0, tail + before - size))
    now /= now.sum(axis=1, keepdims=True) + 1e-18
    spectrum = np.median(now, axis=0)
    bands = [spectrum[(hz >= low) & (hz < high)].sum() for low, high in itertools.pairwise(EDGES_HZ)]
    out = np.maximum(power_to_db(np.array(bands) / max(sum(bands), 1e-12)), FLOOR_DB).tolist()
    raw = np.abs(np.fft.rfft(sound[:, :size] * window, axis=1)) ** 2
    for low, high in ((30, 400), (2000, 12_000)):
        band = (hz >= low) & (hz < high)
        out.append(
            float(np.median(power_to_db((later[:, band].sum(axis=1) + TINY) / (raw[:, band].sum(axis=1) + TINY))))
        )
    early = int(EARLY_S * rate)
    direct, rest = (
        np.mean(sound[:, a:b] ** 2, axis=1) for a, b in ((before, before + early), (before + early, before + size))
    )
    out.append(float(np.median(power_to_db(direct / (rest + TINY)))))
    peaks = np.abs(sound).max(axis=1)
    out.append(float(gain_to_db(np.median(peaks) / peaks.max())))
    out.append(4.0 * float(np.log2(busy + 0.1)))
    return np.array(out)


# Logarithms: what a mic is taken for is this unlikely, and something else this likely.
UNLIKE, LIKE = -6.0, -0.2


def sounds_like_another(piece: str, likely_of: Mapping[str, float]) -> str:
    """Return the kind of mic that a mic surely sounds like, where that is of another drum than the one it is taken for; "" else.

    likely_of : how likely its sound is for each of KINDS, as logarithms
    """
    if not likely_of:
        return ""
    own = {"tom", "floor"} if is_tom(piece) else {piece}
    best = max(likely_of, key=likely_of.__getitem__)
    mine = [log for kind, log in likely_of.items() if kind.split(" ")[0] in own]
    return best if mine and max(mine) <= UNLIKE and likely_of[best] >= LIKE else ""


@cache
def _trees() -> list[Trees]:
    """Return the trees of each kind that ship with the application."""
    with (files("arkund.core.load") / "sounds.npz").open("rb") as file, np.load(file) as table:
        together = Trees(**{name: table[name] for name in Trees.__dataclass_fields__})
    return [together.every(kind, len(KINDS)) for kind in range(len(KINDS))]


def against_the_kit(rows: Sequence[np.ndarray]) -> np.ndarray:
    """Return the features of a take's mics with, beside each, how far it lies from the other mics' in their spread [shape=(mics, 2 features)]."""
    x = np.stack(rows)
    return np.hstack([x, (x - x.mean(axis=0)) / (x.std(axis=0) + 1e-6)])


def likely(found: Sequence[np.ndarray | None]) -> list[dict[str, float]]:
    """Return for each mic of a take how likely it is of each kind, as log probabilities; an empty dict for silence.

    The trees are taught by ``tools/teach_sounds.py`` on generated and recorded strokes in generated rooms.
    """
    known = [k for k, mine in enumerate(found) if mine is not None]
    out: list[dict[str, float]] = [{} for _ in found]
    if not known:
        return out
    measures = against_the_kit([found[k] for k in known]).astype(np.float32)
    for k, scores in zip(known, np.stack([trees.sums(measures) for trees in _trees()], axis=1), strict=True):
        shifted = scores - scores.max()
        logs = shifted - np.log(np.exp(shifted).sum())
        out[k] = {kind: round(float(max(v, LEAST_LOG)), 3) for kind, v in zip(KINDS, logs, strict=True)}
    return out
