"""The kit card's figures against closed forms."""

import dataclasses

import numpy as np
import pytest

from arkund.core.card.measure import SLOPE_HZ, bleed_db, kit_figures, octave_key, octaves_off_db
from arkund.core.card.sound import Sound
from arkund.core.card.targets import FIGURES, INF, SCHOOLS, TARGETS, off_by
from arkund.core.hits.resolve import Hit

RATE = 48_000
BARS = 8


def played(**more) -> dict[str, list[Hit]]:
    """Return kicks on one and three, snares on two and four, two beats a second, and what is given by piece and times."""
    out = {"kick": [], "snare": []}
    for bar in range(BARS):
        out["kick"] += [Hit("kick", 0.5 + 2.0 * bar + at, -6.0, 100, False) for at in (0.0, 1.0)]
        out["snare"] += [Hit("snare", 0.5 + 2.0 * bar + at, -6.0, 100, False) for at in (0.5, 1.5)]
    for piece, times in more.items():
        out.setdefault(piece, []).extend(Hit(piece, t, -20.0, 50, False) for t in times)
    return out


def struck(hits: dict, gains: dict[str, float], body: float = 0.1, seed: int = 1, sides=(1.0, 1.0)) -> np.ndarray:
    """Return strokes of noise, a loud 15 ms and then a body that is so much softer for 250 ms, each piece at its gain."""
    rng, n = np.random.default_rng(seed), round(0.25 * RATE)
    shape = np.where(np.arange(n) < 0.015 * RATE, 1.0, body) * rng.standard_normal(n)
    out = np.zeros(round((BARS * 2.0 + 1.5) * RATE))
    for piece, mine in hits.items():
        for h in mine:
            at = round(h.time_s * RATE)
            out[at : at + n] += 0.1 * gains.get(piece, 0.0) * shape
    return np.stack([out * sides[0], out * sides[1]], axis=1).astype(np.float32)


def figures(audio: np.ndarray, hits: dict) -> dict:
    return kit_figures(Sound(audio, hits, RATE))


class TestKit:
    """Each figure by itself."""

    @pytest.mark.parametrize("body_db", [-6.0, -14.0, -20.0])
    def test_attack_against_body(self, body_db):
        """As the strokes were made."""
        hits = played()
        found = figures(struck(hits, {"kick": 1.0, "snare": 1.0}, 10 ** (body_db / 20)), hits)
        assert found["attack_kick"] == pytest.approx(-body_db, abs=1.2)  # the loudest of several 5 ms of noise
        assert found["attack_snare"] == pytest.approx(-body_db, abs=1.2)

    @pytest.mark.parametrize("hats_db", [-30.0, -24.0, -18.0])
    @pytest.mark.parametrize("ghosts_db", [-20.0, -16.0])
    def test_ghosts_with_hats(self, hats_db, ghosts_db):
        """Each ghost with a hat on top: as loud as it is without, however loud the hats are; where they cover it, it is not told."""
        at = [0.76 + 1.0 * beat for beat in range(2 * BARS)]
        hits = played(hihat=[t + late for t in at for late in (0.0, 0.5)])
        strong = struck(hits, {"kick": 1.0, "snare": 1.0})
        # Hats of several kinds of noise, so that what they share by chance with the ghosts evens out.
        several = [{"hihat": [h for k, h in enumerate(hits["hihat"]) if k // 2 % 8 == kind]} for kind in range(8)]
        both = strong + sum(
            struck(mine, {"hihat": 10 ** (hats_db / 20)}, seed=50 + k) for k, mine in enumerate(several)
        )
        hits["snare"] += [Hit("snare", t, -30.0, 20, True) for t in at]
        soft = {"snare": [h for h in hits["snare"] if h.ghost]}
        ghosts = struck(soft, {"snare": 10 ** (ghosts_db / 20)}, seed=9)
        without = figures(strong + ghosts, {piece: mine for piece, mine in hits.items() if piece != "hihat"})
        assert figures(both + ghosts, hits)["ghosts"] == pytest.approx(without["ghosts"], abs=0.7)
        covered = both + struck(soft, {"snare": 10 ** ((hats_db - 11.0) / 20)}, seed=9)
        assert figures(covered, hits)["ghosts"] is None

    @pytest.mark.parametrize("kick_db", [-5.0, 0.0, 3.0])
    def test_kick_against_snare(self, kick_db):
        """The same stroke so much louder."""
        hits = played()
        found = figures(struck(hits, {"kick": 10 ** (kick_db / 20), "snare": 1.0}), hits)
        assert found["kick"] == pytest.approx(kick_db, abs=0.1)

    def test_pieces_against_back_beats(self):
        """Toms, and lone hats above 2 kHz."""
        hits = played(tom1=[16.45, 17.0], hihat=[1.25, 5.25, 9.25, 13.25])
        audio = struck(hits, {"kick": 1.0, "snare": 1.0, "tom1": 0.5, "hihat": 0.25})
        found = figures(audio, hits)
        assert found["toms"] == pytest.approx(-6.0, abs=0.3)
        assert found["cymbals"] == pytest.approx(-12.0, abs=0.3)
        assert figures(audio, played())["toms"] is None

    @pytest.mark.parametrize(("hat_db", "crash_db"), [(-12.0, -3.0), (-6.0, 0.0), (-9.0, -6.0)])
    def test_where_none_is_alone(self, hat_db, crash_db):
        """Hats on every kick and snare, crashes on some: told by what all that sounds together adds up to."""
        base = played()
        on_all = [h.time_s for mine in base.values() for h in mine]
        hits = played(hihat=[t for k, t in enumerate(on_all) if k % 3], crash=on_all[::4])
        gains = {"kick": 0.7, "snare": 1.0, "hihat": 10 ** (hat_db / 20), "crash": 10 ** (crash_db / 20)}
        audio = np.zeros_like(struck(base, gains))
        for seed, piece in enumerate(gains, 11):  # each with a noise of its own
            audio = audio + struck({piece: hits[piece]}, gains, seed=seed)
        found = figures(audio, hits)
        assert found["cymbals"] == pytest.approx(hat_db, abs=1.5)
        assert found["crashes"] == pytest.approx(crash_db, abs=1.5)

    def test_few_lone_kicks(self):
        """One or two kicks alone tell less than all of them together: then all count."""
        base = played()
        on_kicks = [h.time_s for h in base["kick"]][:-1]
        hits = played(hihat=on_kicks)
        found = figures(struck(hits, {"kick": 1.0, "snare": 1.0}), hits)
        assert found["kick"] == pytest.approx(0.0, abs=0.1)

    def test_contrast(self):
        """A floor so far under the strokes."""
        hits = played()
        audio = struck(hits, {"kick": 1.0, "snare": 1.0}, body=1.0)
        floor = 0.001 * np.random.default_rng(2).standard_normal(audio.shape).astype(np.float32)
        assert figures(audio + floor, hits)["contrast"] == pytest.approx(40.0, abs=1.0)

    def test_image_and_mono(self):
        """One side softer; sides that have nothing in common lose 3 dB in mono, the same on both none."""
        hits = played()
        found = figures(struck(hits, {"kick": 1.0, "snare": 1.0}, sides=(1.0, 0.5)), hits)
        assert [found["image_kick"], found["image_snare"]] == pytest.approx([6.02, 6.02], abs=0.02)
        same = figures(struck(hits, {"kick": 1.0, "snare": 1.0}), hits)
        assert same["mono"] == pytest.approx(0.0, abs=0.01)
        other = struck(hits, {"kick": 1.0, "snare": 1.0})
        other[:, 1] = struck(hits, {"kick": 1.0, "snare": 1.0}, seed=5)[:, 1]
        assert figures(other, hits)["mono"] == pytest.approx(3.0, abs=0.4)

    def test_level(self):
        """Density does not hang on the level, head-room does."""
        hits = played()
        one, half = (figures(struck(hits, {"kick": g, "snare": g}), hits) for g in (1.0, 0.5))
        assert one["density"] == pytest.approx(half["density"], abs=0.01)
        assert one["headroom"] - half["headroom"] == pytest.approx(6.02, abs=0.01)

    @pytest.mark.parametrize("fall_db", [-3.0, -4.5, 0.0, -8.0])
    def test_slope(self, fall_db):
        """A fall of 3 to 4.5 dB an octave is even; others are off by what they add up to at the ends."""
        spectrum = np.fft.rfft(np.random.default_rng(3).standard_normal(20 * RATE))
        hz = np.fft.rfftfreq(20 * RATE, 1 / RATE)
        x = np.fft.irfft(spectrum * (np.maximum(hz, 20.0) / 1000.0) ** (fall_db / 6.02))
        found = float(np.abs(octaves_off_db(np.stack([x, x], 1), RATE)).max())
        beyond = max(fall_db + 3.0, -4.5 - fall_db, 0.0)
        assert found == pytest.approx(beyond * (len(SLOPE_HZ) - 1) / 2, abs=0.5)
        rows = figures(np.stack([x, x], 1), {})
        assert max(abs(rows[octave_key(hz)]) for hz in SLOPE_HZ) == rows["slope"] == pytest.approx(found)

    def test_nothing(self):
        """Silence, and playing that tells nothing, leave figures open instead of breaking."""
        found = figures(np.zeros((RATE, 2), np.float32), {})
        assert found["density"] is found["headroom"] is None
        assert found["attack_kick"] is found["kick"] is found["toms"] is found["ghosts"] is found["slope"] is None

    @pytest.mark.parametrize("seed", range(12))
    def test_any_playing(self, seed):
        """Few strokes of any pieces, at the edges too, leave figures open or tell them; nothing breaks."""
        rng = np.random.default_rng(seed)
        edges = np.array([0.0, 0.001, 0.02, 1.0, 1.96, 1.985, 1.9999])
        hits = {
            piece: [
                Hit(piece, float(t), -6.0, 100, bool(rng.random() < 0.3)) for t in np.sort(rng.choice(edges, count))
            ]
            for piece in ("kick", "snare", "hihat", "ride", "tom1", "floor")
            if (count := int(rng.integers(0, 5)))
        }
        audio = rng.normal(0.0, 0.1, (2 * RATE, 2)).astype(np.float32)
        found = list(figures(audio, hits).values()) + [bleed_db(audio[:, 0], piece, hits, RATE) for piece in hits]
        assert all(value is None or np.isfinite(value) for value in found)


class TestStrips:
    """What a mic hears of others."""

    def test_bleed(self):
        """Others' hits so much softer than the own ones; none where they are too few."""
        hits = played(tom1=[3.25, 7.25])
        strip = struck(hits, {"tom1": 1.0, "kick": 0.1, "snare": 0.1})[:, 0]
        assert bleed_db(strip, "tom1", hits, RATE) == pytest.approx(-20.0, abs=0.3)
        assert bleed_db(strip, "tom1", {"tom1": hits["tom1"]}, RATE) is None
        late = hits | {"tom1": [dataclasses.replace(hits["tom1"][0], time_s=strip.size / RATE - 0.01)]}
        assert bleed_db(strip, "tom1", late, RATE) is None  # its only stroke is cut off by the end


class TestTargets:
    """The schools."""

    def test_every_figure_has_one(self):
        """In every school, from its low to its high end."""
        for school in SCHOOLS:
            assert list(TARGETS[school]) == [figure.key for figure in FIGURES]
            assert all(low < high for low, high in TARGETS[school].values())

    @pytest.mark.parametrize(("value", "off"), [(None, 0.0), (12.0, 0.0), (11.0, 1.0), (17.5, 2.5)])
    def test_off(self, value, off):
        """By how much a target is missed; what is not known misses none."""
        assert off_by(value, (12.0, 15.0)) == off
        assert off_by(value, (-INF, INF)) == 0.0
