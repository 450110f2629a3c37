"""Loudness and true peak after ITU-R BS.1770-5.

References
    ITU-R BS.1770-5 (2023), annex 1 (K-weighting, gating) and annex 2 (true peak by oversampling).
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp import _metering
from arkund.core.dsp.bank import BLOCK, PAIR, Filters, bank_of, empty_bank, pair
from arkund.core.dsp.compiled import FLAT
from arkund.core.dsp.filters import Biquad
from arkund.core.errors import AudioError
from arkund.core.units import SILENCE_DB, db_to_gain, db_to_power, gain_to_db, power_to_db

OFFSET_LUFS = -0.691  # eq. 2
ABSOLUTE_GATE_LUFS, RELATIVE_GATE_LU = -70.0, -10.0
RANGE_GATE_LU = -20.0
BLOCK_S, STEP_S, SHORT_TERM_S = 0.4, 0.1, 3.0
QUARTERS = 4  # of a loop, weighted side by side
# Annex 2 asks for four-fold oversampling at least, with 12 taps; that reads full-band hits up to 0.5 dB too low. These filters read tones of up to 0.46 of the
# rate (20.2 kHz at 44.1 kHz) within 0.05 dB; what lies above that is read too low: bursts of white noise by 0.8 dB at most, against the ideal filter.
OVERSAMPLING, COARSE = 16, 4  # every fourth place first, the others where it matters
TAPS_PER_PHASE, KAISER_BETA = 48, 5.0
FINER = np.float32(1.2)  # by how much the places between can exceed every fourth


def k_weighting(sample_rate_hz: int) -> tuple[Biquad, Biquad]:
    """Return the two stages of the K-weighting for any sample rate; at 48 kHz the table of annex 1."""
    shelf_hz, shelf_db, shelf_q = 1681.974450955533, 3.999843853973347, 0.7071752369554196
    k = math.tan(math.pi * shelf_hz / sample_rate_hz)
    vh = float(db_to_gain(shelf_db))
    vb = vh**0.4996667741545416
    a0 = 1.0 + k / shelf_q + k * k
    first = Biquad(
        (vh + vb * k / shelf_q + k * k) / a0,
        2.0 * (k * k - vh) / a0,
        (vh - vb * k / shelf_q + k * k) / a0,
        2.0 * (k * k - 1.0) / a0,
        (1.0 - k / shelf_q + k * k) / a0,
    )
    low_hz, low_q = 38.13547087602444, 0.5003270373238773
    k = math.tan(math.pi * low_hz / sample_rate_hz)
    a0 = 1.0 + k / low_q + k * k
    second = Biquad(1.0, -2.0, 1.0, 2.0 * (k * k - 1.0) / a0, (1.0 - k / low_q + k * k) / a0)
    return first, second


class Meter:
    """Peak, true peak, samples over full scale and loudness of channels side by side, that arrive in pieces.

    Memory does not grow with the audio but for one power a channel every STEP_S.
    """

    def __init__(self, count: int, width: int, sample_rate_hz: int) -> None:
        self._count, self._step = count, round(STEP_S * sample_rate_hz)
        self.width = width
        self._weighting = Filters([k_weighting(sample_rate_hz)] * self.width, self.width)
        self._steps: list[np.ndarray] = []
        self._power, self._filled = np.zeros(self.width), 0
        self._tail = np.zeros((TAPS_PER_PHASE, self.width), np.float32)
        self.peak = np.zeros(self.width, np.float32)
        self._true = np.zeros(self.width, np.float32)
        self.overs = np.zeros(self.width, np.int64)

    def add(self, bank: np.ndarray) -> None:
        """Add a bank [float32, shape=(samples, width), contiguous]."""
        loudest = self._weigh(bank)
        self.peak = np.maximum(self.peak, loudest.max(axis=0, initial=0.0))
        seam = np.concatenate([self._tail, bank[:TAPS_PER_PHASE]])
        self._look_between(seam, np.abs(seam).max(axis=0, keepdims=True))
        self._look_between(bank, loudest)
        self._tail = (bank if bank.shape[0] >= TAPS_PER_PHASE else seam)[-TAPS_PER_PHASE:].copy()

    def _weigh(self, bank: np.ndarray) -> np.ndarray:
        """Take a bank in, but for what is between its samples, and return the largest magnitudes of its blocks [shape=(blocks, width)]."""
        loudest = np.empty((-(-bank.shape[0] // BLOCK), self.width), np.float32)
        steps = np.empty((bank.shape[0] // self._step + 1, self.width))
        overs, filters = np.zeros(self.width, np.float32), self._weighting
        done = _metering.BANKS[bank.shape[1]].weighted(
            bank.reshape(-1),
            filters.params,
            filters.state,
            loudest.reshape(-1),
            overs,
            self._step,
            self._filled,
            self._power,
            steps.reshape(-1),
        )
        self._filled = (self._filled + bank.shape[0]) % self._step
        self._steps.extend(steps[:done] / self._step)
        self.overs += overs.astype(np.int64)
        return loudest

    def _look_between(self, bank: np.ndarray, loudest: np.ndarray) -> None:
        self._true = np.maximum(self._true, self.peak)
        flat, loudest, looks = bank.reshape(-1), loudest.reshape(-1), (_FILTER, COARSE, FINER, BOUND)
        _metering.true_peaks(flat, self.width, self._count, loudest, *looks, self._true)

    def true_peak(self) -> np.ndarray:
        """Return each channel's largest magnitude at and between the samples added so far."""
        rest = np.concatenate([self._tail, np.zeros((TAPS_PER_PHASE, self.width), np.float32)])
        self._look_between(rest, np.abs(rest).max(axis=0, keepdims=True))
        return self._true[: self._count]

    def between_lufs(self, channels: Sequence[int], from_s: float, to_s: float) -> float:
        """Return the gated loudness of channels between two moments, to the tenth of a second; SILENCE_DB where nothing passes the gate, or lies between."""
        first, last = (max(round(moment / STEP_S), 0) for moment in (from_s, to_s))
        steps = np.reshape(self._steps[first:last], (-1, self.width))[:, list(channels)].sum(axis=1)
        if len(steps) < round(BLOCK_S / STEP_S):
            return _lufs(float(steps.mean())) if steps.size else SILENCE_DB
        return _gated_lufs(steps)

    def integrated_lufs(self, channels: Sequence[int]) -> float:
        """Return the gated loudness of channels that sound together (eqs. 5-7), SILENCE_DB where nothing passes the gate.

        Channels count equally (left, right, centre).
        """
        steps = self._together(channels)
        count = round(BLOCK_S / STEP_S)
        if len(steps) < count:
            heard = steps.size * self._step + self._filled
            power = steps.sum() * self._step + self._power[list(channels)].sum()
            return _lufs(float(power / heard) if heard else 0.0)
        return _gated_lufs(steps)

    def short_term_lufs(self, channels: Sequence[int]) -> np.ndarray:
        """Return the loudness of the last SHORT_TERM_S at each tenth of a second, of channels that sound together, ungated [shape=(moments,)].

        EBU Tech 3341 (2016), section 2.2. Empty for what is shorter than that.
        """
        steps, count = self._together(channels), round(SHORT_TERM_S / STEP_S)
        if len(steps) < count:
            return np.zeros(0)
        power = np.convolve(steps, np.full(count, 1.0 / count), "valid")
        return OFFSET_LUFS + power_to_db(power)

    def range_lu(self, channels: Sequence[int]) -> float | None:
        """Return the loudness range of channels that sound together, in LU; None where nothing passes the gate.

        EBU Tech 3342 (2016): of the short-term loudness that is over -70 LUFS and over 20 LU under the mean of that, the 95th percentile less the 10th.
        """
        found = self.short_term_lufs(channels)
        found = found[found >= ABSOLUTE_GATE_LUFS]
        if not found.size:
            return None
        mean = OFFSET_LUFS + float(power_to_db(db_to_power(found - OFFSET_LUFS).mean()))
        low, high = np.percentile(found[found >= mean + RANGE_GATE_LU], [10.0, 95.0])
        return float(high - low)

    def _together(self, channels: Sequence[int]) -> np.ndarray:
        """Return the weighted mean squares of channels that sound together, by STEP_S [shape=(steps,)]."""
        return np.reshape(self._steps, (-1, self.width))[:, list(channels)].sum(axis=1)


def _gated_lufs(steps: np.ndarray) -> float:
    """Return the gated loudness of mean squares of STEP_S each, at least a block of them."""
    count = round(BLOCK_S / STEP_S)
    blocks = np.convolve(steps, np.full(count, 1.0 / count), "valid")
    loud = blocks[blocks > db_to_power(ABSOLUTE_GATE_LUFS - OFFSET_LUFS)]
    if loud.size == 0:
        return SILENCE_DB
    gate = db_to_power(_lufs(float(loud.mean())) + RELATIVE_GATE_LU - OFFSET_LUFS)
    return _lufs(float(loud[loud > gate].mean()))


def _lufs(power: float) -> float:
    return OFFSET_LUFS + float(power_to_db(power)) if power > 1e-18 else SILENCE_DB


def quick_loudness_lufs(audio: np.ndarray, sample_rate_hz: int) -> float:
    """Return the ungated loudness of a short loop, for matching what is compared [shape=(samples, 2)].

    Its quarters are weighted side by side, each from as much earlier as the weighting takes to settle.
    """
    samples, weighting = audio.shape[0], k_weighting(sample_rate_hz)
    each, lead = -(-samples // QUARTERS), sum(section.settle_samples() for section in weighting)
    bank, heard = empty_bank(lead + each, QUARTERS * PAIR), pair(np.ascontiguousarray(audio, np.float32), 0)
    for number in range(QUARTERS):
        first = max(number * each - lead, 0)
        part = heard[first : (number + 1) * each]
        begin = first - (number * each - lead)
        pair(bank, number)[begin : begin + part.size] = part
    filters, power = Filters([weighting] * bank.shape[1], bank.shape[1]), np.zeros(bank.shape[1])
    for part in (bank[:lead], bank[lead:]):  # of the first, only what it leaves in the filters counts
        power[:] = 0.0
        flat, blocks = part.reshape(-1), -(-part.shape[0] // BLOCK)
        loudest, overs = np.empty(bank.shape[1] * blocks, np.float32), np.zeros(bank.shape[1], np.float32)
        endless = part.size + 1  # samples of a step that is never complete
        _metering.BANKS[bank.shape[1]].weighted(
            flat, filters.params, filters.state, loudest, overs, endless, 0, power, np.empty(0)
        )
    return _lufs(float(power.sum()) / max(samples, 1))


def oversampling_filter() -> np.ndarray:
    """Return the interpolation filters of the places between two samples [shape=(OVERSAMPLING - 1, TAPS_PER_PHASE)]."""
    size = OVERSAMPLING * TAPS_PER_PHASE
    taps = np.sinc((np.arange(size + 1) - size / 2) / OVERSAMPLING) * np.kaiser(size + 1, KAISER_BETA)
    taps *= OVERSAMPLING / taps.sum()
    phases = [taps[phase : size + phase : OVERSAMPLING][::-1] for phase in range(1, OVERSAMPLING)]
    return np.ascontiguousarray(phases, np.float32)


_FILTER = oversampling_filter()
BOUND = np.float32(1.0001 * np.abs(_FILTER).sum(axis=1).max())  # and a hair for what rounding adds


def oversampled_peak(audio: np.ndarray, least: float = 0.0, near: float = 0.0) -> np.ndarray:
    """Return for each sample the largest magnitude between it and the next, over all channels.

    Stretches in which no sample reaches ``least`` are not oversampled, and no more than COARSE-fold where that does not reach ``near``.
    audio : float32 [shape=(samples, channels)]; returns float32 [shape=(samples,)].
    """
    half, count = TAPS_PER_PHASE // 2, audio.shape[0]
    out = np.zeros(-(-count // len(FLAT)) * len(FLAT), np.float32)
    padded = np.zeros(out.size + TAPS_PER_PHASE + len(FLAT), np.float32)
    for channel in audio.T:
        padded[half : half + count] = channel
        _metering.peaks_between(padded, _FILTER, COARSE, np.float32(near), np.float32(least), out)
    return out[:count]


@dataclass(frozen=True, slots=True)
class Loudness:
    """What a meter shows of a piece of audio."""

    peak_db: float
    true_peak_db: float
    loudness_lufs: float
    short_term_lufs: float | None = None  # the loudest three seconds; None where there are no three
    range_lu: float | None = None


def shown_by(meter: Meter, channels: Sequence[int]) -> Loudness:
    """Return what a meter shows of channels that sound together."""
    some, short = list(channels), meter.short_term_lufs(channels)
    return Loudness(
        float(gain_to_db(meter.peak[some].max())),
        float(gain_to_db(meter.true_peak()[some].max())),
        meter.integrated_lufs(channels),
        float(short.max()) if short.size else None,
        meter.range_lu(channels),
    )


def measure(audio: np.ndarray, sample_rate_hz: int) -> Loudness:
    """Return peak, true peak and integrated loudness of audio, float [shape=(samples, channels)]."""
    if audio.ndim != 2:
        raise AudioError(f"Loudness wants audio of shape (samples, channels), got shape {audio.shape}.")
    bank = bank_of(list(audio.T))
    meter = Meter(audio.shape[1], bank.shape[1], sample_rate_hz)
    meter.add(bank)
    return shown_by(meter, range(audio.shape[1]))
