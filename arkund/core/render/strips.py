"""Mics through gate, tone, shaper and compressor, side by side in a bank, block by block."""

from collections.abc import Sequence

import numpy as np

from arkund.core.clean.process import Gate
from arkund.core.dsp.bank import NARROW, WIDE
from arkund.core.plan.plan import MicPlan
from arkund.core.punch.process import Compressor, Shaper
from arkund.core.tone.process import equaliser

BLOCK = 4096  # samples that go through all stages while they are still in the processor's cache


class Strips:
    """The processing of up to WIDE mics, that goes on where it stopped.

    No mic hears another, and how the audio is cut into calls changes nothing, so a mic's samples depend neither on its bank nor on its blocks.
    """

    def __init__(self, mics: Sequence[MicPlan], sample_rate_hz: int) -> None:
        self.width = NARROW if len(mics) <= NARROW else WIDE
        self._gate = Gate([mic.gate for mic in mics], sample_rate_hz, self.width)
        self._stages = (
            equaliser([mic.tone for mic in mics], sample_rate_hz, self.width),
            Shaper([mic.shaper for mic in mics], sample_rate_hz, self.width),
            Compressor([mic.compressor for mic in mics], sample_rate_hz, self.width),
        )
        self.ahead = self._gate.ahead

    def run(self, bank: np.ndarray) -> np.ndarray:
        """Process all but the last ``ahead`` samples of a bank [float32, shape=(samples, width)] in place and return them.

        The next call's bank begins where these end, unprocessed.
        """
        count = bank.shape[0] - self.ahead
        for start in range(0, count, BLOCK):
            stop = min(start + BLOCK, count)
            part = self._gate.run(bank[start : stop + self.ahead])
            for stage in self._stages:
                stage.run(part)
        return bank[:count]
