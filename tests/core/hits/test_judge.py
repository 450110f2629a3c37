"""The judge's trees, and laws that hold whatever they learnt."""

from dataclasses import replace

import numpy as np
import pytest

from arkund.core.files.audio import ArrayMic
from arkund.core.hits import _kernels, fit, habits
from arkund.core.hits.judge import trees
from arkund.core.hits.measure import find_hits
from arkund.core.hits.settings import Channel, HitSettings
from arkund.core.trees.trees import Trees
from tests.kits import compare, small_kit


def grown(rng, count: int, features: int, depth: int) -> Trees:
    """Random full binary trees."""
    rows, roots = [], []

    def add(left_over: int) -> int:
        at = len(rows)
        rows.append(None)
        if left_over == 0:
            rows[at] = (-1, 0.0, 0, 0, rng.normal())
        else:
            rows[at] = (int(rng.integers(features)), rng.normal(), add(left_over - 1), add(left_over - 1), 0.0)
        return at

    for _ in range(count):
        roots.append(add(depth))
    kinds = (np.int16, np.float32, np.int32, np.int32, np.float32)
    return Trees(
        np.array(roots, np.int32), *(np.array(c, k) for c, k in zip(zip(*rows, strict=True), kinds, strict=True))
    )


def walked(t: Trees, row: np.ndarray) -> float:
    """Sum of the leaves, node by node."""
    total = 0.0
    for root in t.roots:
        at = root
        while t.feature[at] >= 0:
            at = t.left[at] if row[t.feature[at]] <= t.threshold[at] else t.right[at]
        total += float(t.value[at])
    return 1.0 / (1.0 + np.exp(-total))


class TestTrees:
    """Sums over trees."""

    def test_against_a_walk(self):
        """Each row's probability, against a walk through each tree."""
        rng = np.random.default_rng(5)
        t = grown(rng, 7, 9, 4)
        rows = rng.normal(size=(40, 9)).astype(np.float32)
        assert t.sure(rows) == pytest.approx([walked(t, row) for row in rows], abs=1e-6)

    def test_at_a_glance(self):
        """Rows that the first few trees find hopeless get what these say, the others what all say."""
        rng = np.random.default_rng(6)
        t, rows = grown(rng, 7, 9, 4), rng.normal(size=(90, 9)).astype(np.float32)
        few = replace(t, roots=t.roots[:3])
        hopeless = few.sums(rows) < -0.5
        assert 5 < hopeless.sum() < 85
        wanted = np.where(hopeless, few.sure(rows), t.sure(rows))
        assert t.sure_or_hopeless(rows, 3, -0.5) == pytest.approx(wanted, abs=1e-6)

    def test_the_shipped_ones_fit_the_evidence(self):
        """They ask for no measure that is not taken, and every node leads on."""
        first, *later = trees()
        assert first.feature.max() < _kernels.HEARD
        for t in later:
            assert t.feature.max() < _kernels.HEARD + _kernels.EXPLAINED + fit.MEASURES + habits.MEASURES
        for t in (first, *later):
            inner = t.feature >= 0
            assert t.left[inner].max() < t.feature.size
            assert t.right[inner].max() < t.feature.size


@pytest.fixture(scope="module")
def kit():
    return small_kit(seed=717, style="busy", bpm=104.0, bars=4, hard=True)


def hits(kit, readers) -> dict[str, list[float]]:
    found = find_hits(readers, kit.channels, kit.sample_rate_hz, HitSettings())
    return {piece: [h.time_s for h in mine] for piece, mine in found.items()}


def same(a: dict, b: dict, later_s: float = 0.0) -> float:
    """Share of hits that both have."""
    pairs = [compare([t + later_s for t in a[p]], b[p], 0.002) for p in a]
    return 2 * sum(s.right for s in pairs) / sum(s.true + s.found for s in pairs)


class TestLaws:
    """What must not matter does not."""

    def test_gain_of_each_mic(self, kit):
        """Trims of 20 dB either way and a flipped polarity change next to nothing."""
        rng = np.random.default_rng(8)
        plain = [kit.readers[m.name] for m in kit.kit.mics]
        gains = 10 ** (rng.uniform(-20, 20, len(plain)) / 20) * rng.choice([-1, 1], len(plain))
        trimmed = [ArrayMic(kit.audio[m.name] * g) for m, g in zip(kit.kit.mics, gains, strict=True)]
        assert same(hits(kit, plain), hits(kit, trimmed)) > 0.98

    def test_a_later_start(self, kit):
        """The same playing 1.37 s later has the same hits 1.37 s later."""
        rate = kit.sample_rate_hz
        rest = np.random.default_rng(2).standard_normal(int(1.37 * rate)) * 1e-4
        plain = [kit.readers[m.name] for m in kit.kit.mics]
        late = [ArrayMic(np.concatenate([rest, kit.audio[m.name]])) for m in kit.kit.mics]
        assert same(hits(kit, plain), hits(kit, late), rest.size / rate) > 0.97

    def test_asking_for_more(self, kit):
        """The surer it must be, the fewer hits; each is also found when asked for less."""
        readers = [kit.readers[m.name] for m in kit.kit.mics]
        few, many = (
            find_hits(readers, kit.channels, kit.sample_rate_hz, HitSettings(sure_percent=p)) for p in (90.0, 10.0)
        )
        for piece, mine in few.items():
            assert len(mine) <= len(many[piece])
            assert all(h.sure >= 0.9 for h in mine)
            assert compare([h.time_s for h in mine], [h.time_s for h in many[piece]], 0.0125).right == len(mine)

    def test_no_other_piece_is_needed(self):
        """A take of which only one mic carries sound, beside dead ones."""
        kit = small_kit(seed=718, style="slow", bpm=84.0, bars=3, play_with={"fills": False})
        dead = ArrayMic(np.zeros(kit.samples))
        channels = [Channel("snare", True, True), Channel("tom1", True, True), Channel("kit", False, False)]
        found = find_hits([kit.readers["SN top"], dead, dead], channels, kit.sample_rate_hz, HitSettings())
        assert found["tom1"] == []
        assert len(found["snare"]) >= sum(not h.ghost for h in kit.truth["snare"]) - 1
