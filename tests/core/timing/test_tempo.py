"""Tempo maps from generated playing whose tempo is known."""

import numpy as np
import pytest

from arkund.core.demo.score import Playing, bar_s, play
from arkund.core.timing.bars import bars_of
from arkund.core.timing.steady import estimate_tempo
from arkund.core.timing.tempo import estimate_map
from tests.core.timing.playing import hit, hits_of


class TestEstimateMap:
    """From the hits alone."""

    @pytest.mark.parametrize("seed", range(700, 716))
    def test_held_tempo(self, seed):
        """Within 0.05 BPM and 20 ms, whatever the style, with flams and a human spread."""
        rng = np.random.default_rng(seed)
        style = ("straight", "busy", "slow", "sixeight")[seed % 4]
        bpm = float(rng.uniform(*{"slow": (60, 90), "sixeight": (50, 105)}.get(style, (75, 175))))
        playing = Playing(
            style=style, bpm=bpm, bars=int(rng.choice([8, 20, 60])), start_s=2.4, seed=seed, flam_share=0.1
        )
        found = estimate_map(hits_of(play(playing)), *((6, 8) if style == "sixeight" else (4, 4)))
        assert found.tempo.bpm == pytest.approx(bpm, abs=0.05)
        assert found.tempo.changes == ()
        off = (found.tempo.first_bar_s - 2.4) % bar_s(playing)
        assert min(off, bar_s(playing) - off) < 0.02

    @pytest.mark.parametrize(("first", "second"), [(118.0, 124.5), (104.0, 132.0), (97.0, 92.0)])
    def test_a_jump(self, first, second):
        """The change is found at its bar, both tempos within 0.05 BPM."""
        one = Playing(bpm=first, bars=14, start_s=2.4, seed=41)
        end = 2.4 + 14 * bar_s(one)
        two = Playing(style="busy", bpm=second, bars=18, start_s=end, seed=42)
        found = estimate_map(hits_of(play(one) + play(two))).tempo
        assert found.bpm == pytest.approx(first, abs=0.05)
        assert [change.bar for change in found.changes] == [14]
        assert found.changes[0].bpm == pytest.approx(second, abs=0.05)
        assert bars_of(found).start_s(20) == pytest.approx(end + 6 * bar_s(two), abs=0.01)

    def test_a_drummer_who_slows_down(self):
        """Bar lines stay within 12 ms of the played ones through a change of 6 BPM over 40 bars."""
        at, lines, hits = 1.0, [], {"kick": [], "snare": [], "hihat": []}
        rng = np.random.default_rng(8)
        for bar in range(40):
            beat = 60 / (120 - 6 * bar / 40)
            lines.append(at)
            for k in range(8):
                hits["hihat"].append(hit("hihat", at + k * beat / 2 + rng.normal(0, 0.003)))
            hits["kick"] += [hit("kick", at + k * beat + rng.normal(0, 0.003)) for k in (0, 2)]
            hits["snare"] += [hit("snare", at + k * beat + rng.normal(0, 0.003)) for k in (1, 3)]
            at += 4 * beat
        found = bars_of(estimate_map(hits).tempo)
        off = min(range(-1, 2), key=lambda k: abs(found.start_s(20 + k) - lines[20]))
        assert [found.start_s(bar + off) for bar in range(40)] == pytest.approx(lines, abs=0.012)

    def test_too_few_hits(self):
        """Seven strokes make no tempo."""
        assert estimate_map({"kick": [hit("kick", float(i)) for i in range(7)]}) is None

    def test_random_hits_have_no_tempo(self):
        """Doubt is said."""
        rng = np.random.default_rng(9)
        guess = estimate_tempo({"kick": [hit("kick", float(t)) for t in np.sort(rng.uniform(0, 30, 60))]})
        assert not guess.sure
        assert guess.score < 0.6
