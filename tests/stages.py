"""Tools run by themselves over signals, from rest, silence following."""

from collections.abc import Sequence

import numpy as np

from arkund.core.dsp.bank import bank_of
from arkund.core.render.banks import Bank
from arkund.core.render.pipeline import Pipeline
from arkund.core.tools.tool import Tool, module_of

RATE = 48_000


def through(tool: Tool, *signals: np.ndarray, rate: int = RATE, key: np.ndarray | None = None) -> np.ndarray:
    """Return signals through a tool each, side by side: two are a stereo strip [shape=(samples,) or (samples, 2)].

    key : what the detector hears where its key is elsewhere
    """
    bank = bank_of(signals)
    run = module_of(tool.kind).Run([tool] * len(signals), rate, bank.shape[1], len(signals) == 2)
    rest = np.zeros((run.ahead, bank.shape[1]), np.float32)
    audio = np.concatenate([bank, rest])
    keys = None if key is None else np.concatenate([bank_of([key] * bank.shape[1])[:, : bank.shape[1]], rest])
    run.run(audio, bank.shape[0], keys)
    return audio[: bank.shape[0], 0] if len(signals) == 1 else audio[: bank.shape[0], :2]


def gain_of(tool: Tool, key: np.ndarray, rate: int = RATE) -> np.ndarray:
    """Return the gain that a tool with a detector has at every sample of a signal."""
    return through(tool.replace(key=tool.key.replace(of="mic:any")), np.ones(key.size, np.float32), rate=rate, key=key)


def row_through(rows: Sequence[Sequence[Tool]], signals: Sequence[np.ndarray], rate: int = RATE) -> np.ndarray:
    """Return mono signals [each shape=(samples,)] through a row of tools each, in one bank: float32 [shape=(samples, signals)]."""
    bank = Bank([[tool for tool in row if tool.on] for row in rows], 1, rate)
    audio = np.concatenate([bank_of(signals), np.zeros((bank.ahead, bank.width), np.float32)])
    Pipeline(bank, audio, [0] * len(bank.runs), lambda: None).run()
    return audio[: audio.shape[0] - bank.ahead, : len(signals)]
