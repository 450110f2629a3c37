"""Mics through gate, tone, shaper and compressor, side by side in a bank, block by block."""

from collections.abc import Collection, Sequence

import numpy as np

from arkund.core.clean.process import Gate
from arkund.core.dsp.bank import kernels, width_for
from arkund.core.plan.plan import MicPlan
from arkund.core.punch.process import Compressor, Shaper
from arkund.core.tone.process import equaliser

STAGES = ("gate", "tone", "shaper", "compressor")
OFF = {stage: getattr(MicPlan(id="off", name="off"), stage).replace(on=False) for stage in STAGES}
NOTHING = np.zeros(0, np.float32)


class Strips:
    """The processing of a bank of mics, that goes on where it stopped.

    No mic hears another, and how the audio is cut into calls changes nothing, so a mic's samples depend neither on its bank nor on its blocks.
    """

    def __init__(self, mics: Sequence[MicPlan], sample_rate_hz: int, stages: Collection[str] = STAGES) -> None:
        self.width = width_for(len(mics))
        self._begun = False

        def of(stage: str) -> list:
            return [getattr(mic, stage) if stage in stages else OFF[stage] for mic in mics]

        self._gate = Gate(of("gate"), sample_rate_hz, self.width)
        self._equaliser = equaliser(of("tone"), sample_rate_hz, self.width)
        self._shaper = Shaper(of("shaper"), sample_rate_hz, self.width)
        self._compressor = Compressor(of("compressor"), sample_rate_hz, self.width)
        self.ahead = int(self._gate.early.max())  # samples beyond those processed that must be known

    def run(self, bank: np.ndarray) -> np.ndarray:
        """Process all but the last ``ahead`` samples of a bank [float32, shape=(samples, width)] in place and return them.

        The next call's bank begins where these end, unprocessed.
        """
        count = bank.shape[0] - self.ahead
        if not self._begun:
            self._gate.prime(bank)
            self._begun = True
        gate, shaper, compressor = self._gate, self._shaper, self._compressor
        filters = [each for f in (gate.key, self._equaliser, compressor.key) for each in (f.params, f.state)]
        kernels(bank).chain(
            bank.reshape(-1),
            count,
            gate.early,
            gate.params if gate.on else NOTHING,
            gate.state,
            tuple(filters),
            shaper.params if shaper.on else NOTHING,
            shaper.state,
            compressor.params if compressor.on else NOTHING,
            compressor.state,
        )
        return bank[:count]
