"""Hits of the shelf under a drum: in time to the sample, by strength, never the same twice where there are others, the same in every print."""

import numpy as np
import pytest

from arkund.core.errors import SettingsError
from arkund.core.files.audio import ArrayMic
from arkund.core.plan.plan import SHELF, Capture, LineUp, MicPlan, Part, Plan
from arkund.core.render.render import render
from arkund.core.replace.sampled import Sampled, Shot
from arkund.core.replace.shots import Sound, prepared, read, struck
from arkund.core.tools.compressor import Compressor

RATE = 48_000
LONG = tuple((k * RATE, 0.0) for k in range(1, 8))


def tone(hz: float = 400.0, seconds: float = 0.5, before: int = 100) -> Sound:
    """Return a decaying sine that begins after some silence."""
    t = np.arange(round(seconds * RATE)) / RATE
    x = np.sin(2 * np.pi * hz * t) * np.exp(-t / 0.1)
    return Sound(np.concatenate([np.zeros(before), x]).astype(np.float32), before)


def laid(sound: Sound, sampled: Sampled, stop: int = 9 * RATE) -> np.ndarray:
    return read(sampled, {"c": prepared(sound, sampled, RATE)}, 0, stop)


class TestWhen:
    """First sample on first sample."""

    @pytest.mark.parametrize("pitch", [0.0, 7.0, -12.0, 0.3])
    def test_first_sample(self, pitch):
        """Whatever the pitch: from its strike on, within a twentieth of a millisecond."""
        x = laid(tone(), Sampled(shots=(Shot(capture="c"),), pitch=pitch, strikes=((20_000, 0.0), (140_000, -3.0))))
        for at in (20_000, 140_000):
            top = np.abs(x[at : at + 4000]).max()
            assert np.abs(x[at - 300 : at - 2]).max() < 0.01 * top
            first = at - 50 + int(np.argmax(np.abs(x[at - 50 : at + 200]) > 0.1 * top))
            assert abs(first - at) <= 0.00005 * RATE + 0.1 * RATE / (400.0 * 2 ** (pitch / 12)) / 2

    def test_any_part_is_the_whole_there(self):
        """Of ten thousand strikes, with all that can be set."""
        rng = np.random.default_rng(3)
        at = np.cumsum(rng.integers(300, 20_000, 10_000))
        strikes = tuple(zip(at.tolist(), rng.uniform(-30, 3, at.size).tolist(), strict=True))
        shots = (Shot(capture="c"), Shot(capture="c", for_db=-12.0, gain_db=3.0))
        mine = Sampled(shots=shots, strikes=strikes, pitch=-3.0, high_pass_hz=90.0, low_pass_hz=6000.0, lasts_ms=200.0)
        sounds, middle = {"c": prepared(tone(), mine, RATE)}, int(at[5000])
        whole = read(mine, sounds, middle, middle + 100_000)
        for start, length in zip(rng.integers(0, 90_000, 20), rng.integers(1, 10_000, 20), strict=True):
            part = read(mine, sounds, middle + start, middle + start + length)
            assert np.array_equal(part, whole[start : start + length])


class TestHowStrong:
    """As the hit, always the same, or further apart; only the strong ones."""

    @pytest.mark.parametrize(("follow", "levels"), [(0.0, (0, 0, 0)), (1.0, (0, -12, 4)), (2.0, (0, -24, 8))])
    def test_follow(self, follow, levels):
        """In dB against the usual strike."""
        strikes = ((RATE, 0.0), (2 * RATE, -12.0), (3 * RATE, 4.0))
        x = laid(tone(), Sampled(shots=(Shot(capture="c", gain_db=-6.0),), follow=follow, strikes=strikes))
        one = np.abs(tone().samples).max()
        tops = [20 * np.log10(np.abs(x[at : at + 20_000]).max() / one) + 6.0 for at, _ in strikes]
        assert tops == pytest.approx(levels, abs=0.01)

    def test_back_beats_only(self):
        """Softer strikes than the least open nothing."""
        strikes = tuple((k * RATE, -20.0 if k % 2 else 0.0) for k in range(1, 8))
        at, _, _ = struck(Sampled(shots=(Shot(capture="c"),), least_db=-8.0, strikes=strikes))
        assert at.tolist() == [2 * RATE, 4 * RATE, 6 * RATE]


class TestWhich:
    """By strength, and in turn."""

    def test_by_strength(self):
        """The one that stands for the nearest strike."""
        shots = tuple(Shot(capture=f"c{k}", for_db=db) for k, db in enumerate((0.0, -12.0, -24.0)))
        strikes = tuple((k, db) for k, db in enumerate((-30.0, -19.0, -17.0, -7.0, -5.0, 6.0)))
        assert struck(Sampled(shots=shots, strikes=strikes))[2].tolist() == [2, 2, 1, 1, 0, 0]

    @pytest.mark.parametrize("count", [2, 3, 5])
    def test_neighbours_differ(self, count):
        """Variants for one strength: never twice in a row, all of them used, in an order of their own by number."""
        shots = tuple(Shot(capture=f"c{k}", for_db=0.1 * k) for k in range(count))
        strikes = tuple((k, 0.0) for k in range(2000))
        orders = [struck(Sampled(shots=shots, strikes=strikes, variation=k))[2] for k in (1, 1, 2)]
        assert (np.diff(orders[0]) != 0).all()
        assert set(orders[0].tolist()) == set(range(count))
        assert np.array_equal(orders[0], orders[1])
        assert count == 2 or not np.array_equal(orders[0], orders[2])


class TestSound:
    """Pitch, length, filters against closed forms."""

    @pytest.mark.parametrize("pitch", [-12.0, -1.0, 5.0, 12.0])
    def test_pitch(self, pitch):
        """A semitone is a twelfth of an octave."""
        mine = Sampled(pitch=pitch)
        x = prepared(tone(500.0), mine, RATE).samples.astype(float)
        hertz = np.fft.rfftfreq(1 << 18, 1 / RATE)
        found = hertz[np.argmax(np.abs(np.fft.rfft(x, 1 << 18)))]
        assert found == pytest.approx(500.0 * 2 ** (pitch / 12), abs=0.5)

    def test_what_would_fold_is_gone(self):
        """An octave up of a tone at 15 kHz is silence, not a tone at 18."""
        x = prepared(tone(15_000.0), Sampled(pitch=12.0), RATE).samples
        assert np.abs(x[400:]).max() < 0.01 * np.abs(tone(15_000.0).samples).max()

    def test_length(self):
        """Nothing is left after it, nothing is touched before the fade, no step within."""
        mine = Sampled(lasts_ms=150.0)
        x, whole = prepared(tone(), mine, RATE).samples, tone().samples
        assert x.size == 100 + 7200
        assert np.array_equal(x[: 100 + 5760], whole[: 100 + 5760])
        assert abs(x[-1]) < 1e-6

    @pytest.mark.parametrize(("name", "hz"), [("high_pass_hz", 200.0), ("low_pass_hz", 2000.0)])
    def test_filters(self, name, hz):
        """A Butterworth filter of two poles by the bilinear transform."""
        impulse = Sound(np.concatenate([np.zeros(10), [1.0], np.zeros(1 << 16)]).astype(np.float32), 10)
        gain = np.abs(np.fft.rfft(prepared(impulse, Sampled(**{name: hz}), RATE).samples, 1 << 17))
        hertz = np.fft.rfftfreq(1 << 17, 1 / RATE)
        ratio = np.tan(np.pi * hertz[1:-1] / RATE) / np.tan(np.pi * hz / RATE)
        wanted = 1.0 / np.sqrt(1.0 + ratio ** (-4.0 if name == "high_pass_hz" else 4.0))
        heard = wanted > 1e-3
        assert 20 * np.log10(gain[1:-1][heard] / wanted[heard]) == pytest.approx(0.0, abs=0.05)

    def test_at_rest(self):
        """With nothing set it is the very same."""
        assert prepared(tone(), Sampled(), RATE).samples is not None
        assert np.array_equal(prepared(tone(), Sampled(), RATE).samples, tone().samples)


class Recorded:
    """A mic with one hit, and a file on the shelf."""

    sample_rate_hz = RATE

    def __init__(self) -> None:
        self.audio = {("t", "sn"): np.zeros(4 * RATE, np.float32), (SHELF, "k1"): tone(250.0).samples}
        self.audio["t", "sn"][RATE : RATE + 24_000] = tone(300.0, before=0).samples

    def mic(self, take: str, mic_id: str) -> ArrayMic | None:
        found = self.audio.get((take, mic_id))
        return None if found is None else ArrayMic(found)

    def content(self, take: str, mic_id: str) -> str:
        return f"{take}{mic_id}" if (take, mic_id) in self.audio else ""

    def length(self, take: str) -> int:
        return 4 * RATE


OWN = Capture(id="own", piece="snare", take="t", at=RATE, before=96, length=20_000, level_db=-1.0)
FILE = Capture(id="file", piece="snare", take=SHELF, at=100, before=100, length=20_000, parts=(Part(key="k1"),))


def planned(*captures: str, into: str = "", **more) -> Plan:
    sound = Sampled(of="sn", shots=tuple(Shot(capture=c) for c in captures), strikes=((2 * RATE, 0.0),))
    layer = MicPlan(id="low", name="Low", piece="snare", role="layer", sampled=sound, into=into, **more)
    line_up = LineUp(delay_ms=2.0, inverted=True)
    mic = MicPlan(id="sn", name="Sn", piece="snare", role="top", trim_db=-3.0, line_up=line_up)
    return Plan(take="t", mics=(mic, layer), captures=(OWN, FILE))


class TestRendered:
    """As a strip, and through a mic."""

    @pytest.mark.parametrize("capture", ["own", "file"])
    def test_a_strip_of_its_own(self, capture):
        """The hit of the song as it is there; the file from its first sample on."""
        x, source = render(planned(capture), Recorded(), (0, 4 * RATE), "strip:low"), Recorded()
        heard = source.audio["t", "sn"][RATE : RATE + 9000] if capture == "own" else tone(250.0).samples[100:9100]
        assert np.allclose(x[2 * RATE : 2 * RATE + 9000], heard, atol=1e-6)
        assert not x[: 2 * RATE - 200].any()

    def test_through_a_mic(self):
        """It gets the trim, the polarity, the delay and the tools of the mic, and is no strip any more."""
        plan = planned("own", into="sn", level_db=-6.0)
        x = render(plan, Recorded(), (0, 4 * RATE), "strip:sn")
        at, gain = 2 * RATE + 96, -(10 ** (-9.0 / 20))
        assert np.allclose(x[at : at + 9000], gain * Recorded().audio["t", "sn"][RATE : RATE + 9000], atol=1e-6)
        with pytest.raises(SettingsError, match="unknown 'alone:low'"):
            render(plan, Recorded(), (0, 100), "alone:low")
        squashed = plan.mic("sn").replace(tools=(Compressor(on=True, threshold_db=-40.0, ratio=20.0, attack_ms=0.1),))
        y = render(plan.replace(mics=(squashed, plan.mics[1])), Recorded(), (0, 4 * RATE), "strip:sn")
        assert np.abs(y[at : at + 9000]).max() < 0.7 * np.abs(x[at : at + 9000]).max()
        off = plan.replace(mics=(plan.mics[0], plan.mics[1].replace(mute=True)))
        assert not render(off, Recorded(), (2 * RATE, 4 * RATE), "strip:sn").any()

    def test_another_file_is_another_sound(self):
        """What is remembered goes by content: a shelf of another session with the same names is not mistaken for it."""
        other = Recorded()
        other.audio[SHELF, "k1"] = tone(900.0).samples
        other.content = lambda take, mic_id: f"other {take}{mic_id}"
        plan = planned("file")
        a, b = (render(plan, each, (0, 4 * RATE), "strip:low") for each in (Recorded(), other))
        assert not np.allclose(a, b)

    @pytest.mark.parametrize(
        ("change", "words"),
        [
            ({"into": "nobody"}, "no mic 'nobody' to go into"),
            ({"into": "sn", "tools": (Compressor(),)}, "tools or sends of its own"),
            ({"sampled": Sampled(of="sn", shots=(Shot(capture="gone"),))}, "not one of the shelf's hits"),
            ({"sampled": Sampled(of="gone")}, "no mic 'gone'"),
        ],
    )
    def test_refused(self, change, words):
        """Said with what and where."""
        plan = planned("own")
        with pytest.raises(SettingsError, match=words):
            plan.replace(mics=(plan.mics[0], plan.mics[1].replace(**change)))

    def test_limits(self):
        """Too many shots, strikes out of order, a hit from files without any."""
        with pytest.raises(SettingsError, match="at most 64"):
            Sampled(shots=tuple(Shot(capture=f"c{k}") for k in range(65)))
        with pytest.raises(SettingsError, match="in order of time"):
            Sampled(strikes=((5, 0.0), (4, 0.0)))
        with pytest.raises(SettingsError, match="has parts"):
            OWN.replace(take=SHELF)
