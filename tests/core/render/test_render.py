"""What is heard is what is printed: spans, cache and executors against the whole render."""

import gc
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest

from arkund.core.errors import CancelledError, SettingsError
from arkund.core.plan.plan import LineUp, LoneCut, Plan
from arkund.core.render import graph, lanes, pipeline
from arkund.core.render.banks import Bank
from arkund.core.render.cache import SpanCache
from arkund.core.render.graph import balance_gains, pan_gains
from arkund.core.render.lanes import Lanes
from arkund.core.render.render import key_listen, render
from arkund.core.render.source import Sources
from arkund.core.render.sums import placed
from arkund.core.rig import usual
from arkund.core.rig.hearing import Listening
from arkund.core.rig.strips import Group, Send
from arkund.core.tools.compressor import Compressor
from arkund.core.tools.gate import Gate
from arkund.core.tools.limiter import Limiter
from arkund.core.tools.shaper import Shaper
from arkund.core.tools.tone import Band, Tone
from arkund.core.tools.tool import Key
from arkund.core.units import gain_to_db
from tests.kits import small_kit
from tests.rigs import random_rig, with_tool


@pytest.fixture(scope="module")
def kit():
    return small_kit(
        seed=771,
        style="straight",
        bpm=126.0,
        bars=3,
        drop=("Rm L", "Rm R", "Rm mono", "Ride", "T2", "FT", "Kik sub", "Talkback"),
    )


def apart_db(part: np.ndarray, whole: np.ndarray) -> float:
    """Return the largest difference of a part from the same place of the whole in dBFS; where that is over full scale, against its peak."""
    return float(gain_to_db(np.max(np.abs(part - whole)) / max(1.0, float(np.max(np.abs(whole))))))


def all_on(plan: Plan) -> Plan:
    """A Plan with every tool of every mic on, and two paths."""
    row = (
        Gate(on=True),
        Tone(bands=(Band(kind="bell", frequency_hz=400.0, gain_db=-4.0),)),
        Shaper(on=True, attack_db=3.0),
        Compressor(on=True, threshold_db=-25.0),
    )
    sends = (Send(id="punch", level_db=-6.0), Send(id="sustain", level_db=-9.0))
    mics = tuple(mic.replace(tools=row, sends=sends) for mic in plan.mics)
    return plan.replace(mics=mics, paths=(usual.punch(), usual.sustain()))


def changed(plan: Plan, rng) -> Plan:
    """One of the changes that an engineer makes, anywhere."""
    u = lambda low, high: float(rng.uniform(low, high))
    number = int(rng.integers(len(plan.mics)))
    mic = plan.mics[number]
    mic = [
        lambda: mic.replace(trim_db=u(-6, 6)),
        lambda: with_tool(mic, "gate", on=True, threshold_db=u(-50, -15)),
        lambda: with_tool(mic, "tone", bands=(Band(kind="bell", frequency_hz=u(60, 9000), gain_db=u(-9, 9)),)),
        lambda: with_tool(mic, "shaper", on=bool(rng.random() < 0.7), attack_db=u(-8, 8)),
        lambda: with_tool(mic, "compressor", on=True, release_ms=u(20, 300)),
        lambda: mic.replace(level_db=u(-12, 0), mute=bool(rng.random() < 0.2)),
        lambda: mic.replace(tools=tuple(rng.permutation(np.array(mic.tools, object)))),
    ][int(rng.integers(7))]()
    plan = plan.replace(mics=(*plan.mics[:number], mic, *plan.mics[number + 1 :]))
    if rng.random() < 0.25:
        first, *others = plan.paths
        plan = plan.replace(paths=(first.replace(mute=not first.mute), *others))
    if rng.random() < 0.25:
        first, *others = plan.groups
        plan = plan.replace(groups=(with_tool(first, "compressor", on=True, threshold_db=u(-40, -10)), *others))
    return plan


class TestSpans:
    """Any span equals the same span of the whole within -90 dBFS."""

    @pytest.mark.parametrize("seed", [3])
    def test_random_plans_and_spans(self, kit, seed):
        """Rows in any order, keys, groups, paths into paths, edits, samples, and every number from the whole of its range."""
        plan = random_rig(kit.plan, seed)
        whole = render(plan, kit, (0, 180_000))
        rng = np.random.default_rng(100 + seed)
        for _ in range(2):
            start = int(rng.integers(0, 140_000))
            stop = start + int(rng.integers(2_000, 40_000))
            assert apart_db(render(plan, kit, (start, stop)), whole[start:stop]) < -90

    @pytest.mark.long
    def test_other_outputs(self, kit):
        """Stems, paths, drums and single strips keep the promise too."""
        plan = random_rig(kit.plan, 42)
        for output in ("path:p0", "drum:kick"):
            whole = render(plan, kit, (0, 180_000), output)
            part = render(plan, kit, (150_000, 180_000), output)
            assert apart_db(part, whole[150_000:]) < -90, output


class TestWithin:
    """What is under the ear first, then the rest."""

    @pytest.mark.parametrize("seed", [20])
    @pytest.mark.parametrize("output", ["kit", "path:p1", "drum:snare"])
    def test_a_part_is_the_same_place_of_the_whole(self, kit, seed, output):
        """Within -90 dBFS, from whatever cache; and the whole is not changed by having heard a part before."""
        plan, rng, cache = random_rig(kit.plan, seed), np.random.default_rng(seed), SpanCache()
        start = int(rng.integers(0, kit.samples - 100_000))
        part = start + int(rng.integers(0, 50_000)), start + int(rng.integers(60_000, 96_000))
        span = start, start + 96_000
        heard = render(plan, kit, part, output, cache, within=span)
        whole = render(plan, kit, span, output)
        assert apart_db(heard, whole[part[0] - start : part[1] - start]) < -90
        assert np.array_equal(render(plan, kit, span, output, cache), whole)
        assert np.array_equal(render(plan, kit, part, output, cache, within=span), heard)

    def test_the_rest_finds_its_mics_rendered(self, kit, monkeypatch):
        """The whole span reads no file and runs no tool of a mic after its part was heard."""
        plan, cache = all_on(kit.plan), SpanCache()
        render(plan, kit, (210_000, 220_000), cache=cache, within=(200_000, 260_000))
        monkeypatch.setattr(Sources, "read", lambda *_: pytest.fail("a source was read"))
        monkeypatch.setattr(
            lanes,
            "Bank",
            lambda rows, channels, rate: (
                Bank(rows, channels, rate) if channels == 2 else pytest.fail("a mic's tool ran")
            ),
        )
        render(plan, kit, (200_000, 260_000), cache=cache)

    def test_cancelled_between_two_pieces(self, kit, monkeypatch):
        """Also where a mic's stages run side by side; what was made until then is not kept."""
        plan, cache, asked = all_on(kit.plan), SpanCache(), []
        monkeypatch.setattr(pipeline, "PIECE", 1024)
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

    @pytest.mark.long
    @pytest.mark.parametrize("seed", [70])
    def test_a_walk_of_changes(self, kit, seed):
        """Over random changes, spans and outputs, the cached render is the same to the last bit."""
        rng = np.random.default_rng(seed)
        cache = SpanCache(most_bytes=150_000_000)
        plan, starts = random_rig(kit.plan, seed), (200_000, 231_000)
        with ThreadPoolExecutor(2) as pool:
            for _ in range(6):
                plan = changed(plan, rng)
                start = int(rng.choice(starts))
                span, output = (
                    (start, start + 20_000),
                    str(rng.choice(["kit", "mix", "drum:snare", "path:p2", "alone:T1"])),
                )
                kept = render(plan, kit, span, output, cache, pool)
                assert np.array_equal(kept, render(plan, kit, span, output))
        assert cache.figures().hits > 3

    @pytest.mark.parametrize("seed", [17])
    def test_no_mic_depends_on_those_beside_it(self, kit, seed):
        """A strip by itself, with no cache, is the same to the last bit as the one that was rendered with all others."""
        plan, span, cache = random_rig(kit.plan, seed), (210_000, 290_000), SpanCache()
        render(plan, kit, span, cache=cache)
        missed = cache.figures().misses
        for mic in plan.standing:
            kept = render(plan, kit, span, f"strip:{mic.id}", cache)
            assert np.array_equal(kept, render(plan, kit, span, f"strip:{mic.id}")), mic.id
        assert cache.figures().misses == missed

    def test_a_slow_mic_leaves_the_others(self, kit, monkeypatch):
        """When a mic needs to begin earlier, it alone does."""
        plan, span, cache = all_on(kit.plan), (300_000, 310_000), SpanCache()
        render(plan, kit, span, cache=cache)
        read = []
        monkeypatch.setattr(
            Sources,
            "read",
            lambda self, mic, *window: read.append(mic.id) or np.zeros(window[1] - window[0], np.float32),
        )
        slow = with_tool(plan.mics[2], "gate", release_ms=900.0)
        render(plan.replace(mics=(*plan.mics[:2], slow, *plan.mics[3:])), kit, span, cache=cache)
        assert set(read) == {plan.mics[2].id}

    def test_only_what_changed_is_rendered(self, kit):
        """A change on one mic leaves all other strips' keys alone."""
        plan = all_on(kit.plan)
        changed = plan.replace(mics=(plan.mics[0].replace(trim_db=9.0), *plan.mics[1:]))
        a, b = (graph.build(each, kit).strips for each in (plan, changed))
        different = {name for name in a if a[name].keys != b[name].keys and name.startswith("mic:")}
        assert different == {f"mic:{plan.mics[0].id}"}
        assert a["kit"].keys != b["kit"].keys

    def test_a_sample_earlier_or_two(self, kit):
        """Shifts that share a hash (in Python -1 and -2 do) are not taken for each other, with a cache or without."""
        cache, span = SpanCache(), (150_000, 160_000)
        for shift in (-1, -2):
            moved = LoneCut(at=100_000, shift=shift, piece="kick"), LoneCut(at=200_000, piece="kick")
            plan = kit.plan.replace(lone_cuts=moved)
            assert np.array_equal(render(plan, kit, span, "drum:kick", cache), render(plan, kit, span, "drum:kick"))

    def test_a_late_stage_leaves_the_earlier_ones(self, kit, monkeypatch):
        """A changed compressor reads no file and runs no other stage of its mic."""
        plan, span, cache = all_on(kit.plan), (200_000, 210_000), SpanCache()
        render(plan, kit, span, cache=cache)
        run = []
        monkeypatch.setattr(Sources, "read", lambda *_: pytest.fail("a source was read"))

        def noted(rows, channels, rate):
            run.append((channels, [tuple(tool.kind for tool in row) for row in rows]))
            return Bank(rows, channels, rate)

        monkeypatch.setattr(lanes, "Bank", noted)
        later = with_tool(plan.mics[0], "compressor", threshold_db=-33.0)
        changed = plan.replace(mics=(later, *plan.mics[1:]))
        assert not np.array_equal(render(changed, kit, span, cache=cache), render(plan, kit, span, cache=cache))
        assert run == [(1, [("compressor",)]), (2, [("shaper", "tone", "compressor"), ("compressor",)])]

    def test_switching_the_blend_leaves_the_mics(self, kit, monkeypatch):
        """What was kept of the mics serves the kit with and without paths, and each drum by itself."""
        plan, span, cache = all_on(kit.plan), (200_000, 210_000), SpanCache()
        render(plan, kit, span, cache=cache)
        bare = plan.replace(paths=tuple(path.replace(mute=True) for path in plan.paths))
        monkeypatch.setattr(Sources, "read", lambda *_: pytest.fail("a source was read"))
        monkeypatch.setattr(lanes, "Bank", lambda *_: pytest.fail("a tool ran"))
        render(bare, kit, span, cache=cache)
        render(plan, kit, span, "drum:snare", cache)

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
            left = [each for each in gc.get_objects() if type(each) in (Lanes, Sources)]
        finally:
            gc.enable()
        assert left == []

    def test_executors_give_the_same_bytes(self, kit):
        """With threads or without."""
        plan = random_rig(kit.plan, 9)
        with ThreadPoolExecutor(2) as pool:
            threaded = render(plan, kit, (100_000, 140_000), executor=pool)
        assert np.array_equal(threaded, render(plan, kit, (100_000, 140_000)))


class TestMixing:
    """Sums, places, mute and solo."""

    def test_stems_add_up_to_the_mix(self, kit):
        """Groups, mics of no group and paths are what reaches the kit's tools."""
        plan = random_rig(kit.plan, 10)
        span = (150_000, 200_000)
        total = sum(render(plan, kit, span, name) for name in graph.build(plan, kit).stems)
        mix = render(plan, kit, span, "mix")
        assert np.max(np.abs(total - mix)) < 1e-5 * max(1.0, np.abs(mix).max())

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
        assert pytest.approx(wanted, abs=1e-5) == placed(list(x), gains.tolist(), samples).T

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
        solo = Listening(solo=frozenset({f"mic:{mics[3].id}"}))
        only = render(kit.plan, kit, (100_000, 110_000), listening=solo)
        assert np.allclose(only[:, 0], kit.audio[mics[3].id][100_000:110_000] * np.sqrt(0.5), atol=1e-6)
        mics[3] = mics[3].replace(mute=True)
        assert not np.any(render(kit.plan.replace(mics=tuple(mics)), kit, (100_000, 110_000), listening=solo))

    @pytest.mark.parametrize(("pan", "left", "right"), [(-1, 1, 0), (0, 0.7071, 0.7071), (1, 0, 1)])
    def test_pan_is_of_equal_power(self, pan, left, right):
        """Squares add up to one."""
        assert pan_gains(pan) == pytest.approx((left, right), abs=1e-4)

    @pytest.mark.parametrize(("pan", "left", "right"), [(-1, 1, 0), (-0.25, 1, 0.75), (0, 1, 1), (1, 0, 1)])
    def test_balance_of_a_stereo_strip(self, pan, left, right):
        """Both sides whole in the middle."""
        assert balance_gains(pan) == (left, right)

    def test_levels_do_not_drive_the_paths(self, kit):
        """Sends are taken before the level: moving a level leaves the path as it is."""
        plan = all_on(kit.plan)
        lower = plan.replace(mics=tuple(m.replace(level_db=-30.0) for m in plan.mics))
        a, b = (graph.build(p, kit).strips["path:punch"].keys for p in (plan, lower))
        assert a == b


class TestGroups:
    """The sum of their members, through tools of their own."""

    def test_a_bus_of_its_own(self, kit):
        """A group's compressor hears its members together, and no one else; its level and place count."""
        glue = Compressor(on=True, threshold_db=-30.0, ratio=4.0)
        kicks = [mic.id for mic in kit.plan.mics if mic.piece == "kick"]
        plan = kit.plan.replace(groups=(Group(id="k", name="Kicks", tools=(glue,), level_db=-3.0, pan=0.4),))
        plan = plan.replace(mics=tuple(m.replace(group="k") if m.id in kicks else m for m in plan.mics))
        span = (150_000, 180_000)
        bare = plan.replace(groups=(plan.groups[0].replace(tools=(), level_db=0.0, pan=0.0),))
        together = render(bare, kit, span, "group:k")
        alone = sum(render(bare, kit, span, f"alone:{mic}") for mic in kicks)
        assert np.abs(together - alone).max() < 1e-6
        crushed = render(plan, kit, span, "group:k")
        assert gain_to_db(np.abs(crushed[:, 1]).max()) < gain_to_db(np.abs(together[:, 1]).max()) - 5.0
        assert np.allclose(crushed[:, 0], 0.6 * crushed[:, 1], atol=1e-6)
        assert np.array_equal(render(plan, kit, span, "drum:kick"), crushed)

    def test_solo_and_mute(self, kit):
        """A soloed group leaves its members alone in the kit and in the paths; a muted one none of them."""
        plan, span = all_on(kit.plan), (150_000, 160_000)
        snare = [mic.id for mic in plan.mics if mic.piece == "snare" and mic.role in ("top", "bottom")]
        by_mics, by_group = (
            Listening(solo=frozenset(names)) for names in ({f"mic:{mic}" for mic in snare}, {"group:snare"})
        )
        assert np.array_equal(render(plan, kit, span, listening=by_group), render(plan, kit, span, listening=by_mics))
        muted = plan.replace(groups=tuple(g.replace(mute=g.id == "snare") for g in plan.groups))
        without = plan.replace(mics=tuple(m.replace(mute=m.id in snare) for m in plan.mics))
        assert np.array_equal(render(muted, kit, span), render(without, kit, span))

    def test_solo_through_a_path_into_a_group(self, kit):
        """A soloed mic is heard in a path's group as well, and nobody else is."""
        plan, span = all_on(kit.plan), (150_000, 160_000)
        into = plan.replace(paths=(plan.paths[0].replace(into="overheads"), plan.paths[1].replace(mute=True)))
        solo = Listening(solo=frozenset({"mic:SN top"}))
        assert np.abs(render(into, kit, span, "group:overheads", listening=solo)).max() > 1e-3
        total = sum(render(into, kit, span, name, listening=solo) for name in ("group:snare", "group:overheads"))
        assert np.abs(total - render(into, kit, span, "mix", listening=solo)).max() < 1e-6

    def test_a_drum_alone_under_the_key_of_others(self, kit):
        """A drum by itself is held down by what holds it down in the kit, though that is not heard."""
        ducked = Compressor(on=True, threshold_db=-50.0, ratio=10.0, key=Key(of="group:snare"))
        groups = tuple(g.replace(tools=(ducked,)) if g.id == "kick" else g for g in kit.plan.groups)
        plan, span = kit.plan.replace(groups=groups), (150_000, 250_000)
        assert np.array_equal(render(plan, kit, span, "drum:kick"), render(plan, kit, span, "group:kick"))

    def test_a_soloed_path(self, kit):
        """It is all that is heard, of everything that it is sent."""
        plan, span = all_on(kit.plan), (150_000, 160_000)
        solo = Listening(solo=frozenset({f"path:{plan.paths[0].id}"}))
        assert np.array_equal(render(plan, kit, span, "mix", listening=solo), render(plan, kit, span, "path:punch"))


class TestLatency:
    """Tools that look ahead, anywhere in a row: what runs beside them stays in step."""

    def test_dry_and_parallel_are_aligned(self, kit):
        """A path and a group whose tools look ahead and change nothing leave the sum exactly twice the dry sound."""
        ahead = (Gate(on=True, range_db=0.0, lookahead_ms=7.3), Limiter(on=True, ceiling_db=0.0))
        path = usual.punch(tools=(*ahead, ahead[0].replace(id="gate-2")), level_db=0.0)
        mics = tuple(
            m.replace(
                trim_db=-20.0, tools=(*m.tools, ahead[0].replace(id="last")), sends=(Send(id="punch", level_db=0.0),)
            )
            for m in kit.plan.mics
        )
        plan = kit.plan.replace(mics=mics, paths=(path,), groups=tuple(g.replace(tools=ahead) for g in kit.plan.groups))
        dry = kit.plan.replace(mics=tuple(m.replace(trim_db=-20.0) for m in kit.plan.mics))
        span = (150_000, 170_000)
        assert np.abs(render(plan, kit, span) - 2.0 * render(dry, kit, span)).max() < 1e-6


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
        plan = kit.plan.replace(mics=tuple(with_tool(m, "gate", key=Key(low_hz=3000.0)) for m in kit.plan.mics))
        heard = key_listen(plan, kit, "KD in", "gate", (100_000, 150_000))
        raw = kit.audio["KD in"][100_000:150_000]
        assert np.array_equal(heard[:, 0], heard[:, 1])
        assert np.mean(heard**2) < 0.1 * np.mean(raw**2)
