"""A song streamed from start to end equals what is rendered of it span by span."""

from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest

from arkund.core.errors import CancelledError
from arkund.core.render.render import render
from arkund.core.render.stream import BLOCK, Stream
from arkund.core.rig import usual
from arkund.core.rig.strips import Send
from tests.core.render.test_render import apart_db
from tests.kits import small_kit
from tests.rigs import random_rig
from tests.seeds import seeds


@pytest.fixture(scope="module")
def kit():
    return small_kit(seed=773, style="busy", bpm=120.0, bars=2, drop=("Rm L", "Rm R", "Ride", "T2", "Talkback"))


def streamed(plan, kit, workers: int = 2, size: int = BLOCK) -> tuple[Stream, dict[str, np.ndarray]]:
    """Stream a whole song; return every output by name."""
    stream = Stream(plan, kit)
    with ThreadPoolExecutor(workers) as pool:
        blocks = list(stream.blocks(pool, size=size))
    out = {}
    for name, (bank, lane) in stream.places().items():
        lanes = lane if name.startswith("strip:") else slice(lane, lane + 2)
        out[name] = np.concatenate([block.banks[bank][:, lanes] for block in blocks])
    return stream, out


class TestStream:
    """Everything keeps its state from block to block."""

    @pytest.mark.parametrize("seed", seeds(52, 53))
    def test_equals_any_span(self, kit, seed):
        """Strips, stems, paths and kit of random Plans, at random places, within -90 dBFS; every output has the song's length."""
        plan = random_rig(kit.plan, seed)
        stream, out = streamed(plan, kit, size=30_011)
        rng = np.random.default_rng(seed)
        names = ["kit", "path:p0", *rng.choice(sorted(out), 4)]
        for name in names:
            assert out[name].shape[0] == stream.length >= kit.samples
            start = int(rng.integers(0, kit.samples - 24_000))
            span = (start, start + 24_000)
            apart = apart_db(render(plan, kit, span, name), out[name][span[0] : span[1]])
            assert apart < -90, name
        assert {f"strip:{mic.id}" for mic in plan.standing} | {"kit", *stream.stems} == set(out)

    def test_what_rings_on(self, kit):
        """A print goes on until its rooms are 60 dB down; what a closed send has left rings as any span says."""
        mics = tuple(mic.replace(sends=(Send(id="plate", level_db=0.0),)) for mic in kit.plan.mics)
        stream, out = streamed(kit.plan.replace(mics=mics, paths=(usual.plate(),)), kit)
        room = usual.plate().tools[0]
        assert stream.length - kit.samples == round(room.rings_s() * kit.sample_rate_hz)
        tail = out["path:plate"][kit.samples :]
        early, late = (float(np.mean(part**2)) for part in (tail[:4800], tail[-4800:]))
        assert early > 0.0
        assert 10 * np.log10(late / early) < -40.0

    def test_blocks_and_workers_do_not_show(self, kit):
        """Other block lengths and other numbers of workers give the same song; the same ones the same bytes."""
        plan = random_rig(kit.plan, 54)
        _, one = streamed(plan, kit, size=20_000)
        _, same = streamed(plan, kit, workers=1, size=20_000)
        _, other = streamed(plan, kit, size=70_001)
        for name, audio in one.items():
            assert np.array_equal(audio, same[name]), name
            assert np.abs(audio - other[name]).max() < 1e-5 * max(1.0, np.abs(audio).max()), name

    def test_stems_and_paths_add_up(self, kit):
        """Without the kit's tools, stems and paths as they are printed add up to the kit, to -100 dBFS."""
        sends = (Send(id="punch", level_db=-6.0), Send(id="sustain", level_db=-12.0))
        plan = kit.plan.replace(
            mics=tuple(mic.replace(sends=sends) for mic in kit.plan.mics),
            paths=(usual.punch(level_db=-9.0), usual.sustain(level_db=-15.0)),
        )
        stream, out = streamed(plan, kit)
        total = sum(out[stem] for stem in stream.stems)
        assert np.abs(total - out["kit"]).max() < 1e-5
        assert np.abs(out["path:punch"]).max() > 0.01

    def test_cancelled(self, kit):
        """Between two blocks."""
        with ThreadPoolExecutor(2) as pool, pytest.raises(CancelledError):
            list(Stream(kit.plan, kit).blocks(pool, lambda: True))
