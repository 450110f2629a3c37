"""What is heard is what is printed: spans, cache and executors against the whole render."""

import gc
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest

from arkund.core.blend.settings import PUNCH, SUSTAIN, BusSettings, MixSettings, PathSettings
from arkund.core.clean.settings import GateSettings
from arkund.core.errors import CancelledError, SettingsError
from arkund.core.plan.plan import Capture, Cut, Layer, LineUp, Placement, Plan
from arkund.core.punch.settings import CompressorSettings, ShaperSettings
from arkund.core.render import graph, pipeline, stages
from arkund.core.render.cache import SpanCache
from arkund.core.render.render import key_listen, render
from arkund.core.render.source import Sources
from arkund.core.render.stages import Stages
from arkund.core.render.strips import Strips
from arkund.core.render.sums import pan_gains, placed
from arkund.core.tone.settings import Band, ToneSettings
from arkund.core.units import gain_to_db
from tests.kits import small_kit
from tests.random_settings import drawn, drawn_band


@pytest.fixture(scope="module")
def kit():
    return small_kit(seed=771, style="straight", bpm=126.0, bars=6)


def random_plan(plan: Plan, seed: int, rate: int = 48_000) -> Plan:
    """A Plan drawn from the whole of all ranges, their ends included; a fifth of the stages are off."""
    rng = np.random.default_rng(seed)
    u = lambda low, high: float(rng.uniform(low, high))
    on = lambda: bool(rng.random() < 0.8)
    mics = tuple(
        mic.replace(
            trim_db=u(-12, 12),
            line_up=drawn(LineUp, rng, inverted=bool(rng.random() < 0.3)),
            gate=drawn(GateSettings, rng, on=on()),
            tone=ToneSettings(bands=tuple(drawn_band(rng) for _ in range(int(rng.integers(0, 4))))),
            shaper=drawn(ShaperSettings, rng, on=on()),
            compressor=drawn(CompressorSettings, rng, on=on()),
            mix=drawn(MixSettings, rng),
        )
        for mic in plan.mics
    )
    at = int(5.0 * rate)
    capture = Capture(id="sn", piece="snare", take=plan.take, at=at, before=100, length=9000, level_db=-8.0)
    return plan.replace(
        mics=mics,
        cuts=(
            Cut(at=4 * rate, shift=int(u(-900, 900))),
            Cut(at=6 * rate, shift=int(u(-900, 900))),
            Cut(at=9 * rate, shift=0),
        ),
        captures=(capture,),
        placements=(Placement(capture="sn", at=7 * rate, length=8000),),
        layers=(Layer(capture="sn", strikes=((3 * rate, -3.0), (8 * rate, 0.0))),),
        punch=drawn(PathSettings, rng, on=True, compressor=drawn(CompressorSettings, rng, on=True)),
        sustain=drawn(PathSettings, rng, on=True, compressor=drawn(CompressorSettings, rng, on=True)),
        bus=drawn(BusSettings, rng, compressor=drawn(CompressorSettings, rng, on=on()), limiter_on=on()),
    )


def apart_db(part: np.ndarray, whole: np.ndarray) -> float:
    """Return the largest difference of a part from the same place of the whole in dBFS; where that is over full scale, against its peak."""
    return float(gain_to_db(np.max(np.abs(part - whole)) / max(1.0, float(np.max(np.abs(whole))))))


def all_on(plan: Plan) -> Plan:
    """A Plan with every stage of every mic on."""
    mics = tuple(
        mic.replace(
            gate=GateSettings(on=True),
            tone=ToneSettings(bands=(Band(kind="bell", frequency_hz=400.0, gain_db=-4.0),)),
            shaper=ShaperSettings(on=True, attack_db=3.0),
            compressor=CompressorSettings(on=True, threshold_db=-25.0),
        )
        for mic in plan.mics
    )
    return plan.replace(mics=mics, punch=PUNCH.replace(on=True), sustain=SUSTAIN.replace(on=True))


def changed(plan: Plan, rng) -> Plan:
    """One of the changes that an engineer makes, anywhere."""
    u = lambda low, high: float(rng.uniform(low, high))
    number = int(rng.integers(len(plan.mics)))
    mic = plan.mics[number]
    mic = [
        lambda: mic.replace(trim_db=u(-6, 6)),
        lambda: mic.replace(gate=mic.gate.replace(on=True, threshold_db=u(-50, -15))),
        lambda: mic.replace(tone=ToneSettings(bands=(Band(kind="bell", frequency_hz=u(60, 9000), gain_db=u(-9, 9)),))),
        lambda: mic.replace(shaper=ShaperSettings(on=bool(rng.random() < 0.7), attack_db=u(-8, 8))),
        lambda: mic.replace(compressor=mic.compressor.replace(on=True, release_ms=u(20, 300))),
        lambda: mic.replace(mix=mic.mix.replace(level_db=u(-12, 0), mute=bool(rng.random() < 0.2))),
    ][int(rng.integers(6))]()
    plan = plan.replace(mics=(*plan.mics[:number], mic, *plan.mics[number + 1 :]))
    if rng.random() < 0.25:
        plan = plan.replace(sustain=plan.sustain.replace(on=not plan.sustain.on))
    return plan


class TestSpans:
    """Any span equals the same span of the whole within -90 dBFS."""

    @pytest.mark.parametrize("seed", range(4))
    def test_random_plans_and_spans(self, kit, seed):
        """Gate, filters, shaper, compressor, edits, samples, paths, bus and limiter all on."""
        plan = random_plan(kit.plan, seed)
        whole = render(plan, kit, (0, kit.samples))
        rng = np.random.default_rng(100 + seed)
        assert np.abs(whole).max() > 0.01
        for _ in range(3):
            start = int(rng.integers(0, kit.samples - 60_000))
            stop = start + int(rng.integers(2_000, 60_000))
            assert apart_db(render(plan, kit, (start, stop)), whole[start:stop]) < -90

    def test_other_outputs(self, kit):
        """Stems, paths, drums and single strips keep the promise too."""
        plan = random_plan(kit.plan, 42)
        for output in ("mix", "path:punch", "group:snare", "drum:kick", "strip:T1", "alone:HH"):
            whole = render(plan, kit, (0, kit.samples), output)
            part = render(plan, kit, (300_000, 340_000), output)
            assert apart_db(part, whole[300_000:340_000]) < -90, output


class TestWithin:
    """What is under the ear first, then the rest."""

    @pytest.mark.parametrize("seed", range(20, 22))
    @pytest.mark.parametrize("output", ["kit", "mix", "path:punch", "drum:snare"])
    def test_a_part_is_the_same_place_of_the_whole(self, kit, seed, output):
        """Within -90 dBFS, from whatever cache; and the whole is not changed by having heard a part before."""
        plan, rng, cache = random_plan(kit.plan, seed), np.random.default_rng(seed), SpanCache()
        start = int(rng.integers(0, kit.samples - 100_000))
        part = start + int(rng.integers(0, 50_000)), start + int(rng.integers(60_000, 96_000))
        span = start, start + 96_000
        heard = render(plan, kit, part, output, cache, within=span)
        whole = render(plan, kit, span, output)
        assert apart_db(heard, whole[part[0] - start : part[1] - start]) < -90
        assert np.array_equal(render(plan, kit, span, output, cache), whole)
        assert np.array_equal(render(plan, kit, part, output, cache, within=span), heard)

    def test_the_rest_finds_its_mics_rendered(self, kit, monkeypatch):
        """The whole span reads no file and runs no stage after its part was heard."""
        plan, cache = all_on(kit.plan), SpanCache()
        render(plan, kit, (210_000, 220_000), cache=cache, within=(200_000, 260_000))
        monkeypatch.setattr(stages.Sources, "read", lambda *_: pytest.fail("a source was read"))
        monkeypatch.setattr(stages, "Strips", lambda *_: pytest.fail("a stage ran"))
        render(plan, kit, (200_000, 260_000), cache=cache)

    def test_cancelled_between_two_pieces(self, kit, monkeypatch):
        """Also where a mic's stages run side by side; what was made until then is not kept."""
        plan, cache, asked = all_on(kit.plan), SpanCache(), []
        monkeypatch.setattr(pipeline, "PIECE", 4096)
        with ThreadPoolExecutor(1) as pool, pytest.raises(CancelledError):
            render(
                plan, kit, (200_000, 260_000), "alone:SN top", cache, pool, lambda: asked.append(1) or len(asked) > 12
            )
        assert cache.figures().bytes > 0
        whole = render(plan, kit, (200_000, 260_000), "alone:SN top", cache)
        assert np.array_equal(whole, render(plan, kit, (200_000, 260_000), "alone:SN top"))

    def test_a_part_elsewhere(self, kit):
        """The message says what lies where."""
        with pytest.raises(SettingsError, match="5 to 30 does not lie within 10 to 40"):
            render(kit.plan, kit, (5, 30), within=(10, 40))


class TestCache:
    """Kept spans change nothing but the time."""

    @pytest.mark.parametrize("seed", [7, 70])
    def test_a_walk_of_changes(self, kit, seed):
        """Over random changes, spans and outputs, the cached render is the same to the last bit."""
        rng = np.random.default_rng(seed)
        cache = SpanCache(most_bytes=60_000_000)
        plan, starts = random_plan(kit.plan, seed), (200_000, 231_000)
        with ThreadPoolExecutor(2) as pool:
            for _ in range(8):
                plan = changed(plan, rng)
                start = int(rng.choice(starts))
                span, output = (
                    (start, start + 60_000),
                    str(rng.choice(["kit", "mix", "drum:snare", "path:punch", "alone:T1"])),
                )
                kept = render(plan, kit, span, output, cache, pool)
                assert np.array_equal(kept, render(plan, kit, span, output))
        assert cache.figures().hits > 5

    @pytest.mark.parametrize("seed", [17, 71])
    def test_no_mic_depends_on_those_beside_it(self, kit, seed):
        """A strip by itself, with no cache, is the same to the last bit as the one that was rendered with all others."""
        plan, span, cache = random_plan(kit.plan, seed), (210_000, 400_000), SpanCache()
        render(plan, kit, span, cache=cache)
        missed = cache.figures().misses
        for mic in plan.mics:
            kept = render(plan, kit, span, f"strip:{mic.id}", cache)
            assert np.array_equal(kept, render(plan, kit, span, f"strip:{mic.id}")), mic.id
        assert cache.figures().misses == missed

    def test_a_slow_mic_leaves_the_others(self, kit, monkeypatch):
        """When a mic needs to begin earlier, it alone does."""
        plan, span, cache = all_on(kit.plan), (300_000, 310_000), SpanCache()
        render(plan, kit, span, cache=cache)
        read = []
        monkeypatch.setattr(
            stages.Sources,
            "read",
            lambda self, mic, *window: read.append(mic.id) or np.zeros(window[1] - window[0], np.float32),
        )
        slow = plan.mics[2].gate.replace(release_ms=900.0)
        render(
            plan.replace(mics=(*plan.mics[:2], plan.mics[2].replace(gate=slow), *plan.mics[3:])), kit, span, cache=cache
        )
        assert set(read) == {plan.mics[2].id}

    def test_only_what_changed_is_rendered(self, kit):
        """A change on one mic leaves all other strips' keys alone."""
        plan = random_plan(kit.plan, 8)
        changed = plan.replace(mics=(plan.mics[0].replace(trim_db=9.0), *plan.mics[1:]))
        a, b = graph.build(plan, kit), graph.build(changed, kit)
        different = {name for name in a if a[name].key != b[name].key and name.startswith("strip:")}
        assert different == {f"strip:{plan.mics[0].id}"}
        assert a["kit"].key != b["kit"].key

    def test_a_late_stage_leaves_the_earlier_ones(self, kit, monkeypatch):
        """A changed compressor reads no file and runs no other stage of its mic."""
        plan, span, cache = all_on(kit.plan), (200_000, 210_000), SpanCache()
        render(plan, kit, span, cache=cache)
        run = []
        monkeypatch.setattr(stages.Sources, "read", lambda *_: pytest.fail("a source was read"))
        monkeypatch.setattr(
            stages, "Strips", lambda mics, rate, on: run.append((len(mics), on)) or Strips(mics, rate, on)
        )
        later = CompressorSettings(on=True, threshold_db=-33.0)
        changed = plan.replace(mics=(plan.mics[0].replace(compressor=later), *plan.mics[1:]))
        assert not np.array_equal(render(changed, kit, span, cache=cache), render(plan, kit, span, cache=cache))
        assert run == [(1, ("compressor",))]

    def test_switching_the_blend_leaves_the_mics(self, kit):
        """What was kept of the mics serves the kit with and without paths and bus, and each drum by itself."""
        plan, span, cache = all_on(kit.plan), (200_000, 210_000), SpanCache()
        render(plan, kit, span, cache=cache)
        bare = plan.replace(
            punch=plan.punch.replace(on=False), sustain=plan.sustain.replace(on=False), bus=BusSettings()
        )
        missed = cache.figures().misses
        render(bare, kit, span, cache=cache)
        render(plan, kit, span, "drum:snare", cache)
        assert cache.figures().misses - missed == 3  # bare kit, bare mix, the snare's sum

    def test_bounded_in_bytes(self):
        """What was asked for longest ago goes first."""
        cache = SpanCache(most_bytes=2600)
        for i in range(3):
            cache.put(f"k{i}", 0, 300, np.full(300, i, np.float32))
            cache.get("k0", 0, 300)
        assert [None if (x := cache.get(f"k{i}", 0, 300)) is None else float(x[0]) for i in range(3)] == [0, None, 2]
        figures = cache.figures()
        assert (figures.hits, figures.misses, figures.bytes) == (5, 1, 2400)
        cache.clear()
        assert cache.figures().bytes == 0

    def test_a_view_counts_as_what_it_keeps(self):
        """A part of a large array keeps all of it in memory."""
        cache = SpanCache(most_bytes=10_000)
        cache.put("k", 0, 10, np.zeros(2000, np.float32)[5:15])
        assert cache.figures().bytes == 8000
        cache.put("too large", 0, 10, np.zeros(4000, np.float32)[5:15])
        assert cache.get("too large", 0, 10) is None

    def test_nothing_stays_after_a_rendering(self, kit):
        """What a rendering made goes with it at once, without waiting for the collector of circles."""
        plan, cache = all_on(kit.plan), SpanCache(most_bytes=0)
        gc.collect()
        gc.disable()
        try:
            render(plan, kit, (300_000, 360_000), cache=cache)
            left = [each for each in gc.get_objects() if isinstance(each, (Stages, Sources))]
        finally:
            gc.enable()
        assert left == []

    def test_executors_give_the_same_bytes(self, kit):
        """With threads or without."""
        plan = random_plan(kit.plan, 9)
        with ThreadPoolExecutor(2) as pool:
            threaded = render(plan, kit, (100_000, 180_000), executor=pool)
        assert np.array_equal(threaded, render(plan, kit, (100_000, 180_000)))


class TestMixing:
    """Sums, places, mute and solo."""

    def test_stems_add_up_to_the_mix(self, kit):
        """Groups plus paths are what reaches the bus."""
        plan = random_plan(kit.plan, 10)
        span = (150_000, 200_000)
        nodes = graph.build(plan, kit)
        total = sum(render(plan, kit, span, name) for name in nodes if name.startswith("group:"))
        for path in ("punch", "sustain"):
            total = total + render(plan, kit, span, f"path:{path}")
        assert np.max(np.abs(total - render(plan, kit, span, "mix"))) < 1e-5

    def test_plain_plan_is_a_plain_sum(self, kit):
        """With nothing on, the kit is the sum of the raw mics at -3 dB on each side."""
        span = (100_000, 120_000)
        wanted = sum(audio[slice(*span)] for audio in kit.audio.values()) * np.sqrt(0.5)
        got = render(kit.plan, kit, span)
        assert np.max(np.abs(got - wanted[:, None])) < 1e-5

    @pytest.mark.parametrize(("rows", "samples"), [(1, 7), (5, 256), (18, 2001)])
    def test_a_sum_of_many(self, rows, samples):
        """Against a plain product of matrices."""
        rng = np.random.default_rng(rows)
        x, gains = rng.standard_normal((rows, samples)).astype(np.float32), rng.standard_normal((rows, 2))
        wanted = x.T.astype(float) @ gains
        assert placed(list(x), gains.astype(np.float32), samples) == pytest.approx(wanted, abs=1e-5)

    def test_inverted_copy_nulls(self, kit):
        """The proof that two paths match: nothing at all is left."""
        mic = kit.plan.mics[0]
        twin = mic.replace(id="twin", line_up=LineUp(inverted=True))
        both = kit.plan.replace(mics=(mic, twin))
        kit.readers["twin"] = kit.readers[mic.id]
        assert not render(both, kit, (0, 100_000)).any()

    def test_mute_and_solo(self, kit):
        """Solo leaves only the soloed, mute wins."""
        mics = list(kit.plan.mics)
        mics[3] = mics[3].replace(mix=MixSettings(solo=True))
        plan = kit.plan.replace(mics=tuple(mics))
        only = render(plan, kit, (100_000, 110_000))
        assert np.allclose(only[:, 0], kit.audio[mics[3].id][100_000:110_000] * np.sqrt(0.5), atol=1e-6)
        mics[3] = mics[3].replace(mix=MixSettings(solo=True, mute=True))
        assert not np.any(render(kit.plan.replace(mics=tuple(mics)), kit, (100_000, 110_000)))

    @pytest.mark.parametrize(("pan", "left", "right"), [(-1, 1, 0), (0, 0.7071, 0.7071), (1, 0, 1)])
    def test_pan_is_of_equal_power(self, pan, left, right):
        """Squares add up to one."""
        assert pan_gains(pan) == pytest.approx((left, right), abs=1e-4)

    def test_levels_do_not_drive_the_paths(self, kit):
        """Sends are pre-fader: moving a level leaves the path as it is."""
        plan = random_plan(kit.plan, 11)
        lower = plan.replace(mics=tuple(m.replace(mix=m.mix.replace(level_db=-30.0)) for m in plan.mics))
        a, b = (graph.build(p, kit)["path:punch"].key for p in (plan, lower))
        assert a == b


class TestErrors:
    """Unknown outputs and cancelled work."""

    def test_unknown_output(self, kit):
        """The text lists what there is."""
        with pytest.raises(SettingsError, match="unknown 'drum:gong'"):
            render(kit.plan, kit, (0, 100), "drum:gong")

    def test_cancel(self, kit):
        """A render that is no longer wanted stops."""
        with pytest.raises(CancelledError):
            render(kit.plan, kit, (0, 48_000), cancelled=lambda: True)

    def test_key_listen(self, kit):
        """What the gate hears: the mic through its key filter, on both sides."""
        plan = kit.plan.replace(mics=tuple(m.replace(gate=GateSettings(key_low_hz=3000.0)) for m in kit.plan.mics))
        heard = key_listen(plan, kit, "KD in", (100_000, 150_000))
        raw = kit.audio["KD in"][100_000:150_000]
        assert np.array_equal(heard[:, 0], heard[:, 1])
        assert np.mean(heard**2) < 0.1 * np.mean(raw**2)
