"""What is measured of candidates: against planted strokes of known shape and level."""

import numpy as np
import pytest
from scipy import signal

from arkund.core.dsp.filters import high_pass, low_pass
from arkund.core.files.audio import ArrayMic
from arkund.core.hits import _kernels, evidence, prints
from arkund.core.hits.bands import BANDS, EDGES_HZ, Bands, measure_bands
from arkund.core.hits.settings import Channel

RATE = 48_000
CHANNELS = [
    Channel("kick", True, True),
    Channel("snare", True, True),
    Channel("snare", True, False),
    Channel("kit", False, False),
]
BLEED = np.array([[1.0, 0.02, 0.02, 0.1], [0.05, 1.0, 0.3, 0.2]])  # power of kick and snare in the four mics
COLOUR = np.array([[0.5, 0.3, 0.1, 0.06, 0.03, 0.01], [0.02, 0.3, 0.3, 0.2, 0.1, 0.08]])


def planted(strokes: list[tuple[int, int, float]], frames: int = 4000) -> Bands:
    """Return bands in which strokes (piece, frame, power) decay by 1/e in 8 ms over a floor."""
    power = np.full((frames, 4, BANDS), 1e-9, np.float32)
    quick = np.full((4 * frames, 4, 2), 1e-9, np.float32)
    fall = np.exp(-np.arange(60) / 8.0)
    for piece, at, level in strokes:
        power[at : at + 60] += level * fall[:, None, None] * BLEED[piece][None, :, None] * COLOUR[piece]
        quick[4 * at : 4 * at + 240] += level * np.repeat(fall, 4)[:, None, None] * BLEED[piece][None, :, None]
    return Bands(power, quick)


class TestMeasureBands:
    """Against filters of another library."""

    @pytest.mark.parametrize("rate", [44_100, 96_000])
    def test_an_independent_filter(self, rate):
        """Each band's mean square per millisecond, against scipy's direct form in double precision."""
        x = np.random.default_rng(3).standard_normal(rate) * 0.1
        found = measure_bands([ArrayMic(np.zeros(rate)), ArrayMic(x)], rate)
        edges = np.round(np.arange(1001) * rate / 1000).astype(int)
        for band in range(BANDS):
            y = x.astype(np.float32).astype(float)
            top = min(EDGES_HZ[band + 1], 0.45 * rate)
            for s in (*high_pass(EDGES_HZ[band], 2, rate, matched=False), *low_pass(top, 2, rate)):
                y = signal.lfilter([s.b0, s.b1, s.b2], [1.0, s.a1, s.a2], y)
            wanted = np.add.reduceat(y * y, edges[:-1]) / np.diff(edges)
            assert found.power[:, 1, band] == pytest.approx(wanted, rel=1e-3, abs=1e-9)
        assert not found.power[:, 0].any()


class TestScene:
    """Mics, pieces and candidates."""

    def test_whose_mics(self):
        """The timing mic comes first, the other one second; the kit's mics belong to nobody."""
        s = evidence.scene(planted([(0, 500, 0.1), (1, 1000, 0.1)]), CHANNELS)
        assert s.names == ("kick", "snare")
        assert s.first.tolist() == [0, 1]
        assert s.second.tolist() == [-1, 2]
        assert s.mic_piece.tolist() == [0, 1, 1, -1]

    def test_every_stroke_is_looked_at(self):
        """Also the soft one beside a loud one."""
        s = evidence.scene(planted([(0, 500, 0.1), (1, 508, 0.001), (1, 1500, 0.1)]), CHANNELS)
        for piece, frame in ((0, 500), (1, 508), (1, 1500)):
            assert np.min(np.abs(s.frames[s.pieces == piece] - frame)) <= 1

    @pytest.mark.parametrize(
        ("piece", "name"), [("kick", "kick"), ("tom3", "tom"), ("floor", "tom"), ("ride", "cymbal")]
    )
    def test_family(self, piece, name):
        """Pieces that are judged alike."""
        assert evidence.family(piece) == name


class TestApart:
    """Of near candidates of a piece the surest stands."""

    def test_the_surest_stands(self):
        """Another piece's candidates do not matter; those exactly at the distance stand both."""
        s = evidence.scene(planted([(0, 500, 0.1)]), CHANNELS)
        fields = {name: getattr(s, name) for name in s.__dataclass_fields__}
        fields |= {"frames": np.array([100, 105, 106, 112, 130]), "pieces": np.array([0, 0, 1, 0, 0])}
        s = evidence.Scene(**fields)
        sure = np.array([0.5, 0.9, 0.6, 0.5, 0.2])
        assert evidence.apart(s, sure, 0.3, 7).tolist() == [False, True, True, True, False]


class TestPrints:
    """Learnt from planted strokes."""

    def learnt(self, strokes):
        bands = planted(strokes)
        frames, pieces = (np.array([s[k] for s in strokes], np.int64) for k in (1, 0))
        sure = np.full(len(strokes), 0.95)
        first = np.array([0, 1])
        return bands.power, frames, pieces, first, prints.learn(bands.power, frames, pieces, sure, sure > 0, first)

    def test_bleed_and_colour(self):
        """The print holds each mic's share in each band, though strokes of both pieces meet now and then."""
        strokes = (
            [(0, 200 + 300 * k, 0.1) for k in range(8)]
            + [(1, 350 + 300 * k, 0.05) for k in range(8)]
            + [(1, 205, 0.05)]
        )
        *_, found = self.learnt(sorted(strokes, key=lambda s: s[1]))
        for piece in (0, 1):
            shape = found.shape[piece, _kernels.BEFORE : _kernels.BEFORE + 10].mean(axis=0)
            share = shape.sum(axis=1) / shape.sum(axis=1)[piece]
            assert share == pytest.approx(BLEED[piece], rel=0.05)
            assert shape[piece] / shape[piece].sum() == pytest.approx(COLOUR[piece], rel=0.05)

    def test_heights(self):
        """A stroke 20 dB softer has a hundredth of the height; its bands agree."""
        strokes = [(0, 200 + 300 * k, 0.1 if k != 4 else 0.001) for k in range(8)] + [(1, 2800, 0.1)]
        power, frames, pieces, first, found = self.learnt(strokes)
        height, spread = prints.heights(power, found, frames, pieces, first, np.arange(frames.size))
        assert height[4] / height[3] == pytest.approx(0.01, rel=0.1)
        assert spread[4] < 1.0

    def test_an_unknown_piece(self):
        """Without a sure stroke nothing is claimed to be known."""
        *_, found = self.learnt([(0, 200 + 300 * k, 0.1) for k in range(4)])
        assert found.learnt.tolist() == [4, 0]
        assert not found.shape[1].any()


class TestExplained:
    """What is left when the others are accounted for."""

    def test_bleed_is_explained(self):
        """A kick's bleed in the snare mic is explained to within 2 dB; a snare stroke beside a kick is not."""
        strokes = (
            [(0, 200 + 300 * k, 0.1) for k in range(6)]
            + [(1, 350 + 300 * k, 0.1) for k in range(6)]
            + [(0, 2500, 0.1), (1, 2507, 0.02)]
        )
        s = evidence.scene(planted(strokes), CHANNELS)
        sure = np.array(
            [
                0.95 if any(piece == p and abs(frame - at) <= 1 for p, at, _ in strokes) else 0.02
                for frame, piece in zip(s.frames, s.pieces, strict=True)
            ]
        )
        left = evidence.explained(s, sure, sure > 0.5, np.arange(s.frames.size))[:, :BANDS]
        bleed = np.flatnonzero((s.pieces == 1) & (np.abs(s.frames - 500) <= 1))
        own = np.flatnonzero((s.pieces == 1) & (np.abs(s.frames - 2507) <= 1))
        assert bleed.size
        assert own.size
        assert np.abs(left[bleed[0], :4]).max() < 2.0
        assert left[own[0], 2:].min() > 6.0
