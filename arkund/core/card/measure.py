"""The kit card: what a kit measures, on any print, by anyone. Each figure says how."""

from collections.abc import Sequence

import numpy as np
from scipy.optimize import lsq_linear

from arkund.core.card.sound import BLOCK, STRONG, Energy, Hits, Sound
from arkund.core.dsp.loudness import OFFSET_LUFS, measure
from arkund.core.dsp.spectrum import OCTAVES_HZ, bands_of_db, octaves, power_density
from arkund.core.kit.pieces import is_tom
from arkund.core.units import peak_db, power_to_db

ATTACK_MS, ATTACK_WITHIN_MS = 5.0, 15.0  # the loudest so long, so soon after a hit
BODY_MS = (30.0, 120.0)
HIT_MS, BEFORE_MS = 30.0, 40.0  # of contrast
LEAD_MS = 2.0  # a hit's first sample is known to no better than that
WINDOW_MS = 400.0  # of a stroke's loudness
BEFORE_WINDOW_MS = 5.0  # by which such windows begin earlier
TOM_WINDOW_MS = 200.0  # of a tom, which in a fill is followed soon
LONE_WINDOW_MS = 100.0  # of one that is heard alone
LONE_MS = (90.0, 130.0)  # no other stroke so long before one and after it
SLOPE_HZ = (*OCTAVES_HZ, 16_000.0)
WEIGHED = 5  # times that the windows are weighed anew
TOGETHER_MS = (-15.0, 50.0)  # of a stroke's window: another stroke that begins within sounds in it
BESIDE_GHOSTS = ("hihat", "ride")  # what may sound with ghosts
LEAST_OWN = 0.25  # of the power of such a ghost that must be its own
FALLS_DB = (-4.5, -3.0)  # per octave, between which a kit's spectrum is even
BODY_S, BLEED_PEAK_S = 0.4, 0.03
LEAST_HITS = 3
QUIETEST_DB = -120.0
INF = float("inf")


def octave_key(hz: float) -> str:
    """Return the key of an octave's distance from the slope."""
    return f"octave_{hz:g}"


def kit_figures(sound: Sound) -> dict[str, float | None]:
    """Return the figures of the card that the kit alone tells, and how far each octave lies off the slope; None where the playing does not tell them."""
    x, rate = sound.audio, sound.sample_rate_hz
    levels = measure(x, rate)
    strong = strong_times(sound.hits)
    weighted = sound.through("weighted")
    backs = _back_beats(sound)
    snare = _median(_window_db(weighted, backs, rate))
    bright, middle, whole = sound.through("bright"), sound.through("middle"), sound.whole
    lone_kicks, toms = lone_times(sound, "kick"), _clear_toms(sound)
    kicks = lone_kicks if len(lone_kicks) >= LEAST_HITS else times(sound.hits, "kick")
    by_kind, off = _bright_db(bright, sound), _octaves_off_db(sound.density, x.shape[0], rate)
    octaves_off = {} if off is None else {octave_key(hz): float(by) for hz, by in zip(SLOPE_HZ, off, strict=True)}
    return octaves_off | {
        "density": levels.true_peak_db - levels.loudness_lufs if levels.loudness_lufs > QUIETEST_DB else None,
        "attack_kick": _median(_attack_db(whole, times(sound.hits, "kick"), rate)),
        "attack_snare": _median(_attack_db(whole, backs, rate)),
        "contrast": _median(_contrast_db(whole, strong, rate)),
        "kick": _apart(_median(_window_db(weighted, kicks, rate)), snare),
        "toms": _apart(
            _median(_window_db(weighted, toms, rate, TOM_WINDOW_MS), 2),
            _median(_window_db(weighted, backs, rate, TOM_WINDOW_MS)),
        ),
        "cymbals": _apart(by_kind.get("hats"), by_kind.get("snare")),
        "crashes": _apart(by_kind.get("crashes"), by_kind.get("snare")),
        "ghosts": _apart(_ghosts_db(middle, sound), _median(_window_db(middle, backs, rate, LONE_WINDOW_MS))),
        "slope": None if off is None else float(np.abs(off).max()),
        "image_kick": sides_db(whole, times(sound.hits, "kick"), rate),
        "image_snare": sides_db(whole, backs, rate),
        "mono": _mono_db(weighted),
        "headroom": levels.true_peak_db if levels.true_peak_db > QUIETEST_DB else None,
    }


def bleed_db(strip: np.ndarray, piece: str, hits: Hits, sample_rate_hz: int) -> float | None:
    """Return the peaks of others' hits in a mic against those of its own, medians in dB; strip : float32 [shape=(samples,)]; None where either are too few."""
    own = [h.time_s for h in hits.get(piece, []) if not h.ghost]
    every = np.sort([h.time_s for h in hits.get(piece, [])])
    others_s = [h.time_s for other, mine in hits.items() if other != piece for h in mine if not h.ghost]
    others = clear_of(every, others_s, BODY_S, BLEED_PEAK_S)
    if len(own) < 1 or len(others) < LEAST_HITS:
        return None
    return _apart(
        *(_median(peaks_db(strip[:, None], at, -1.0, 1000.0 * BLEED_PEAK_S, sample_rate_hz), 1) for at in (others, own))
    )


def _ghosts_db(middle: Energy, sound: Sound) -> float | None:
    """Return the level of ghost notes that no other drum is near; where too few are heard alone, of those with a hat or ride too, whose part in them is taken
    off: the usual power of its strokes that are heard alone. None where that part is not known, or is most of it.
    """
    rate, window_ms = sound.sample_rate_hz, (-BEFORE_WINDOW_MS, LONE_WINDOW_MS - BEFORE_WINDOW_MS)
    alone = lone_times(sound, "snare", ghosts=True)
    if len(alone) >= LEAST_HITS:
        return _median(_window_db(middle, alone, rate, LONE_WINDOW_MS))
    length_s = sound.audio.shape[0] / rate - LONE_WINDOW_MS / 1000.0
    ghosts = np.array(
        [t for t in lone_times(sound, "snare", ghosts=True, beside=BESIDE_GHOSTS) if 0.005 < t < length_s]
    )
    before_s, after_s = (ms / 1000.0 for ms in TOGETHER_MS)
    added, powers = np.zeros(ghosts.size), middle.powers(ghosts, *window_ms, rate).sum(axis=1)
    if ghosts.size < LEAST_HITS:
        return None
    for piece in BESIDE_GHOSTS:
        struck = np.array([h.time_s for h in sound.hits.get(piece, [])])
        together = np.array([np.any((struck >= t + before_s) & (struck <= t + after_s)) for t in ghosts])
        own = middle.powers(lone_times(sound, piece), *window_ms, rate).sum(axis=1)
        if together.any() and own.size < LEAST_HITS:
            return None
        added += together * (np.median(own) if own.size else 0.0)
    left = float(np.median(powers - added))
    return OFFSET_LUFS + float(power_to_db(left)) if left > LEAST_OWN * np.median(powers) else None


KINDS = {"hats": ("hihat", "ride"), "crashes": ("crash",), "snare": ("snare",)}  # whose highs are compared


def _bright_db(bright: Energy, sound: Sound) -> dict[str, float]:
    """Return how loud hats and rides, crashes and back-beats are in a sound's highs, in LUFS: by strokes that are heard alone where there are enough.

    Where there are not, each kind's power is worked out from the windows of all strokes: what sounds together adds up (least squares of what is
    not below 0, each window against what it should hold, so that loud ones do not decide alone).
    """
    rate, out = sound.sample_rate_hz, {}
    alone = {
        kind: [t for piece in pieces for t in lone_times(sound, piece)]
        for kind, pieces in KINDS.items()
        if kind != "snare"
    }
    if (backs := _median(_window_db(bright, _back_beats(sound), rate, LONE_WINDOW_MS))) is not None:
        out["snare"] = backs
    for kind, mine in alone.items():
        if (level := _median(_window_db(bright, mine, rate, LONE_WINDOW_MS))) is not None:
            out[kind] = level
    struck = {kind: np.sort(times(sound.hits, *pieces)) for kind, pieces in KINDS.items()}
    struck |= {
        piece: np.sort(times(sound.hits, piece)) for piece in sound.hits if not any(piece in p for p in KINDS.values())
    }
    missing = [kind for kind in alone if kind not in out and len(struck[kind]) >= LEAST_HITS]
    if not missing:
        return out
    length_s = sound.audio.shape[0] / rate
    every = [
        t for t in np.unique(np.concatenate(list(struck.values()))) if 0.005 <= t < length_s - LONE_WINDOW_MS / 1000.0
    ]
    levels_db = _window_db(bright, every, rate, LONE_WINDOW_MS)
    every = every[: len(levels_db)]
    power = 10.0 ** (np.array(levels_db) / 10.0)
    before_s, after_s = (ms / 1000.0 for ms in TOGETHER_MS)
    counts = np.array(
        [[np.sum((mine >= t + before_s) & (mine <= t + after_s)) for mine in struck.values()] for t in every], float
    ).reshape(len(every), len(struck))
    if len(every) < len(struck):
        return out
    scale = power
    for _ in range(WEIGHED):
        shares = lsq_linear(counts / scale[:, None], power / scale, (0.0, INF)).x
        scale = np.maximum(counts @ shares, 1e-3 * power)
    by_kind = dict(zip(struck, shares.tolist(), strict=True))
    return out | {kind: float(power_to_db(by_kind[kind])) for kind in missing if by_kind[kind] > 0.0}


def strong_times(hits: Hits) -> list[float]:
    """Return when kicks and back-beats are, in s."""
    return times(hits, *STRONG)


def times(hits: Hits, *pieces: str) -> list[float]:
    """Return when pieces are struck, ghosts left out, in s."""
    return [h.time_s for piece in pieces for h in hits.get(piece, []) if not h.ghost]


def _back_beats(sound: Sound) -> list[float]:
    return times(sound.hits, "snare")


def _clear_toms(sound: Sound) -> list[float]:
    """Return the strokes of toms that no kick or snare is near, all of them where there are none."""
    others = np.sort([h.time_s for piece in STRONG for h in sound.hits.get(piece, [])])
    toms = [t for piece in sound.hits if is_tom(piece) for t in times(sound.hits, piece)]
    clear = clear_of(others, toms, LONE_MS[0] / 1000.0, TOM_WINDOW_MS / 1000.0)
    return clear if len(clear) >= 2 else toms


def clear_of(others_s: np.ndarray, times_s: Sequence[float], before_s: float, after_s: float) -> list[float]:
    """Return those of some times so long before which, and after which, none of the others is; all in s."""
    return [t for t in times_s if not np.any((others_s > t - before_s) & (others_s < t + after_s))]


def lone_times(sound: Sound, piece: str, ghosts: bool = False, beside: tuple[str, ...] = ()) -> list[float]:
    """Return when the strokes of a piece are that no other stroke is near, in s; beside : pieces whose strokes may be near"""
    every = np.sort([h.time_s for other, mine in sound.hits.items() if other not in beside for h in mine])
    before, after = (ms / 1000.0 for ms in LONE_MS)
    return [
        h.time_s
        for h in sound.hits.get(piece, [])
        if h.ghost == ghosts and np.sum((every > h.time_s - before) & (every < h.time_s + after)) == 1
    ]


def spans(x: np.ndarray, times_s: Sequence[float], begin_ms: float, end_ms: float, rate: int) -> list[np.ndarray]:
    """Return a span of a sound [shape=(samples, ...)] about each time, those that lie inside as a whole."""
    first, last = round(begin_ms * rate / 1000.0), round(end_ms * rate / 1000.0)
    places = [round(t * rate) for t in times_s]
    return [x[at + first : at + last] for at in places if at + first >= 0 and at + last <= x.shape[0]]


def _attack_db(energy: Energy, times_s: Sequence[float], rate: int) -> list[float]:
    """Return of each hit its loudest 5 ms within 15 ms against what follows from 30 to 120 ms."""
    size, within = (round(ms * rate / 1000.0) for ms in (ATTACK_MS, ATTACK_WITHIN_MS))
    begins = energy.places(times_s, -ATTACK_MS, BODY_MS[1], rate)
    heads = np.square(energy.x[begins[:, None] + np.arange(2 * size + within)], dtype=np.float64).sum(axis=-1)
    sums = np.concatenate([np.zeros((begins.size, 1)), np.cumsum(heads, axis=1)], axis=1)
    attack = (sums[:, size:-1] - sums[:, : -size - 1]).max(axis=1, initial=0.0) / size
    first, last = size + round(BODY_MS[0] * rate / 1000.0), size + round(BODY_MS[1] * rate / 1000.0)
    body = energy.between(begins + first, last - first).sum(axis=1)
    heard = body > 0.0
    return (power_to_db(attack[heard]) - power_to_db(body[heard])).tolist()


def _contrast_db(energy: Energy, times_s: Sequence[float], rate: int) -> list[float]:
    """Return of each hit its first 30 ms against the 40 ms before it."""
    begins = energy.places(times_s, -BEFORE_MS, HIT_MS, rate)
    before, lead, after = (round(ms * rate / 1000.0) for ms in (BEFORE_MS, LEAD_MS, HIT_MS))
    hit, gap = energy.between(begins + before, after).sum(axis=1), energy.between(begins, before - lead).sum(axis=1)
    return (power_to_db(hit + 1e-12) - power_to_db(gap + 1e-12)).tolist()


def _window_db(energy: Energy, times_s: Sequence[float], rate: int, ms: float = WINDOW_MS) -> list[float]:
    power = energy.powers(times_s, -BEFORE_WINDOW_MS, ms - BEFORE_WINDOW_MS, rate).sum(axis=1)
    return (OFFSET_LUFS + power_to_db(power + 1e-12)).tolist()


def peaks_db(x: np.ndarray, times_s: Sequence[float], begin_ms: float, end_ms: float, rate: int) -> list[float]:
    """Return the peak of a sound [shape=(samples, channels)] about each time, of those that lie inside as a whole, in dBFS."""
    return [max(peak_db(part), QUIETEST_DB) for part in spans(x, times_s, begin_ms, end_ms, rate)]


def octaves_off_db(audio: np.ndarray, sample_rate_hz: int) -> np.ndarray | None:
    """Return how far each of SLOPE_HZ lies above a straight fall of FALLS_DB, whichever fits best, in dB; None for silence.

    audio : float32 [shape=(samples, channels)]
    """
    return _octaves_off_db(power_density(audio), audio.shape[0], sample_rate_hz)


def _octaves_off_db(density: np.ndarray, samples: int, sample_rate_hz: int) -> np.ndarray | None:
    levels = bands_of_db(density, octaves(SLOPE_HZ), samples, sample_rate_hz)
    if levels.max() < QUIETEST_DB:
        return None
    octave = np.log2(np.array(SLOPE_HZ) / 1000.0)
    rests = [levels - fall * octave for fall in np.linspace(*FALLS_DB, 7)]
    best = min(rests, key=np.ptp)  # the line may lie where it fits best
    return best - (best.max() + best.min()) / 2.0


def sides_db(energy: Energy, times_s: Sequence[float], rate: int) -> float | None:
    """Return left against right of a kit at hits, in dB; None without hits, or of a mono sound."""
    powers = energy.powers(times_s, 0.0, BODY_MS[1], rate)
    if not powers.size or powers.shape[1] < 2:
        return None
    left, right = powers.mean(axis=0)
    return float(power_to_db(left + 1e-12) - power_to_db(right + 1e-12))


def _mono_db(energy: Energy) -> float | None:
    """Return the loudness that is lost when both sides are added up, of what would be lost of nothing."""
    x = energy.x
    if x.shape[1] < 2:
        return None
    both = energy.between(np.array([0]), x.shape[0]).sum()
    whole = x[: x.shape[0] // BLOCK * BLOCK].reshape(-1, BLOCK, 2)
    shared = np.einsum("ij,ij->i", whole[..., 0], whole[..., 1]).sum(dtype=np.float64) / max(x.shape[0], 1)
    return float(power_to_db(both + 1e-18) - power_to_db(both / 2.0 + shared + 1e-18))


def _median(values: Sequence[float], least: int = LEAST_HITS) -> float | None:
    return float(np.median(values)) if len(values) >= least else None


def _apart(one: float | None, other: float | None) -> float | None:
    return None if one is None or other is None else one - other
