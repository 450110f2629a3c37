"""Scenes as they are heard: their settings in their bars, the song's elsewhere, faded at the bar line; spans, whole songs and caches agree."""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import numpy as np
import pytest

from arkund.core.errors import SettingsError
from arkund.core.files.audio import ArrayMic
from arkund.core.kit.pieces import LAYER
from arkund.core.plan import scenes
from arkund.core.plan.plan import LineUp, MicPlan, Section, Tempo
from arkund.core.render.cache import SpanCache
from arkund.core.render.render import render
from arkund.core.replace import made
from arkund.core.rig import usual
from arkund.core.rig.scenes import MOST_RANGES, Held, Scene
from arkund.core.rig.strips import Send
from arkund.core.tools.compressor import Compressor
from arkund.core.tools.space import Space
from arkund.core.tools.tone import Band, Tone
from arkund.core.tools.tool import Key
from tests.core.render.test_render import apart_db
from tests.core.render.test_stream import streamed
from tests.kits import small_kit
from tests.rigs import random_rig, random_scenes

RATE, BAR_S = 48_000, 2.0
LINE = round((2 * BAR_S - scenes.BEFORE_LINE_S) * RATE)  # the chorus begins with bar 3


@pytest.fixture(scope="module")
def kit():
    """Three bars of two seconds from the very beginning, few mics."""
    drop = ("Rm L", "Rm R", "Rm mono", "Ride", "T1", "T2", "FT", "Kik sub", "Talkback", "HH")
    return small_kit(seed=779, style="straight", bpm=120.0, bars=4, drop=drop)


@pytest.fixture
def plan(kit):
    """A verse of two bars, then a chorus."""
    sections = (Section(name="verse", bar=0), Section(name="chorus", bar=2))
    return kit.plan.replace(tempo=Tempo(bpm=120.0), sections=sections)


def with_scene(plan, held: dict, **more):
    scene = Scene(
        id="lift",
        name="Lift",
        held=tuple(Held(place=p, value=v) for p, v in held.items()),
        **{"sections": ("chorus",)} | more,
    )
    return plan.replace(scenes=(*plan.scenes, scene))


class TestHeard:
    """What a scene does, against the same settings for the whole song."""

    @pytest.mark.parametrize(
        "held",
        [
            {"mics.SN top.level_db": -12.0, "mics.SN top.pan": 0.5},
            {"mics.SN top.mute": True},
            {"groups.overheads.level_db": -20.0},
            {"mics.KD in.trim_db": 6.0},
            {"kit.level_db": -6.0},
            {"paths.punch.level_db": 3.0, "mics.SN top.sends.punch.level_db": -3.0},
            {"mics.SN top.tools.tone.bands.0.gain_db": -9.0},
        ],
    )
    def test_before_in_and_between(self, kit, plan, held):
        """Before, the song's settings; from the line on, the scene's; over the fade, by a raised cosine from one to the other."""
        tools = (Tone(bands=(Band(kind="bell", frequency_hz=400.0, gain_db=6.0),)),)
        mics = tuple(mic.replace(tools=tools) if mic.id == "SN top" else mic for mic in plan.mics)
        path = usual.punch().replace(tools=(), level_db=-9.0, mute=False)
        plan = plan.replace(mics=mics, paths=(path,))
        mine = with_scene(plan, held)
        span = (LINE - 4800, LINE + 4800)
        got, before, after = (render(each, kit, span) for each in (mine, plan, scenes.applied(mine, "lift")))
        assert np.max(np.abs(before - after)) > 1e-3
        fade, at = RATE * 20 // 1000, 4800
        assert apart_db(got[: at - fade], before[: at - fade]) < -120
        assert apart_db(got[at:], after[at:]) < -120
        if "mics.KD in.trim_db" in held:  # which goes evenly in dB
            return
        rising = (0.5 - 0.5 * np.cos(np.pi * (np.arange(fade) + 0.5) / fade))[:, None]
        wanted = before[at - fade : at] * (1 - rising) + after[at - fade : at] * rising
        assert apart_db(got[at - fade : at], wanted) < -120

    def test_no_click(self, kit, plan):
        """A tone through the change of a compressor and of a level: no step is larger than those of the tone."""
        tone = 0.5 * np.sin(2 * np.pi * 100.0 * np.arange(kit.samples) / RATE).astype(np.float32)
        kit = replace(kit, readers={mic.id: ArrayMic(tone) for mic in plan.mics})
        mics = tuple(
            mic.replace(tools=(Compressor(on=True, threshold_db=-20.0, ratio=4.0),), mute=mic.id != "SN top")
            for mic in plan.mics
        )
        mine = with_scene(
            plan.replace(mics=mics), {"mics.SN top.tools.compressor.ratio": 20.0, "groups.snare.level_db": 4.0}
        )
        steps = np.abs(np.diff(render(mine, kit, (LINE - 9600, LINE + 9600)), axis=0))
        steady = np.abs(np.diff(render(mine, kit, (LINE + 24_000, LINE + 43_200)), axis=0)).max()
        assert steps.max() < 1.05 * steady

    def test_what_was_sent_rings_on(self, kit, plan):
        """A send that closes at the line leaves its path's room sounding, and falling by what the room is set to."""
        room = Space(on=True, pre_delay_ms=0.0, decay_s=1.0, lows=1.0, highs=1.0)
        path = usual.plate().replace(tools=(room,))
        sent = tuple(mic.replace(sends=(Send(id="plate", level_db=0.0),)) for mic in plan.mics)
        closed = {f"mics.{mic.id}.sends.plate.level_db": -60.0 for mic in plan.mics}
        mine = with_scene(plan.replace(mics=sent, paths=(path,)), closed)
        heard = render(mine, kit, (LINE + 4800, LINE + 28_800), "path:plate")
        first, last = (10 * np.log10(np.mean(part**2)) for part in (heard[:4800], heard[-4800:]))
        assert first > -60.0
        assert last - first == pytest.approx(-60.0 * 0.4, abs=3.0)
        late = render(mine, kit, (LINE + 96_000, LINE + 100_800), "path:plate")
        assert 10 * np.log10(np.mean(late**2) + 1e-30) < first - 90.0

    def test_until_the_end_and_from_the_beginning(self, kit, plan):
        """The last section has no end; what holds from bar 1 on holds before it as well."""
        mine = with_scene(plan, {"kit.level_db": -20.0})
        span = (kit.samples - 4800, kit.samples + 4800)
        assert apart_db(render(mine, kit, span), render(scenes.applied(mine, "lift"), kit, span)) < -120
        first = with_scene(
            plan.replace(tempo=Tempo(bpm=120.0, first_bar_s=1.0)), {"kit.level_db": -20.0}, sections=("verse",)
        )
        assert apart_db(render(first, kit, (0, 9600)), render(scenes.applied(first, "lift"), kit, (0, 9600))) < -120

    def test_a_group_that_others_listen_to(self, kit, plan):
        """A key hears the group as it is at each moment."""
        groups = tuple(
            g.replace(tools=(Compressor(id="own", threshold_db=-40.0),)) if g.id == "kick" else g for g in plan.groups
        )
        ducked = Compressor(id="duck", on=True, threshold_db=-60.0, ratio=20.0, attack_ms=1.0, key=Key(of="group:kick"))
        groups = tuple(g.replace(tools=(ducked,)) if g.id == "snare" else g for g in groups)
        mine = with_scene(plan.replace(groups=groups), {"groups.kick.tools.own.on": True})
        late = (LINE + 24_000, LINE + 60_000)
        assert (
            apart_db(
                render(mine, kit, late, "group:snare"), render(scenes.applied(mine, "lift"), kit, late, "group:snare")
            )
            < -90
        )


class TestLayersThroughAMic:
    """In by section: out in the verse, in for the chorus."""

    @pytest.fixture
    def laid(self, kit, plan):
        """A thump under the kick, off, through a mic that is trimmed, late and compressed."""
        strikes = tuple((round(h.time_s * RATE), 0.0) for h in kit.hits["kick"])
        thump = MicPlan(
            id="low", name="low", piece="kick", role=LAYER, into="KD in", mute=True, level_db=-3.0, made=made.first("thump", 50.0, strikes)
        )  # fmt: skip
        compressor = Compressor(on=True, threshold_db=-30.0, ratio=3.0)
        line_up = LineUp(delay_ms=1.37)
        mics = tuple(
            m.replace(tools=(compressor,), trim_db=2.0, line_up=line_up) if m.id == "KD in" else m for m in plan.mics
        )
        return plan.replace(mics=(*mics, thump))

    @pytest.mark.parametrize("held", [{"mics.low.mute": False}, {"mics.low.mute": False, "mics.low.level_db": 4.0}])
    def test_before_and_in(self, kit, laid, held):
        """Before the bar line as if it were not there, after it as if it had been there all the time; spans, stream and cache agree."""
        mine, cache = with_scene(laid, held), SpanCache()
        early, late = (20_000, LINE - 2_000), (LINE + 24_000, LINE + 60_000)
        for span, wanted in ((early, laid), (late, scenes.applied(mine, "lift"))):
            got = render(mine, kit, span, "strip:KD in", cache)
            assert apart_db(got, render(wanted, kit, span, "strip:KD in")) < -90
            assert np.array_equal(got, render(mine, kit, span, "strip:KD in", cache))
        whole = render(mine, kit, (0, LINE + 60_000), "strip:KD in")
        assert apart_db(whole[slice(*late)], render(mine, kit, late, "strip:KD in")) < -90
        assert apart_db(render(laid, kit, late, "strip:KD in"), whole[slice(*late)]) > -60
        _, out = streamed(mine, kit, size=30_011)
        assert apart_db(out["strip:KD in"][slice(*late)], whole[slice(*late)]) < -90

    def test_another_level_is_another_key(self, kit, laid):
        """What is kept for one is not heard for the other."""
        cache, span = SpanCache(), (LINE + 24_000, LINE + 60_000)
        soft, loud = (with_scene(laid, {"mics.low.mute": False, "mics.low.level_db": db}) for db in (-20.0, 6.0))
        heard = [render(each, kit, span, "strip:KD in", cache) for each in (soft, loud)]
        assert apart_db(*heard) > -40
        assert np.array_equal(heard[1], render(loud, kit, span, "strip:KD in"))

    def test_what_a_scene_cannot_set(self, kit, laid):
        """It has no place of its own there, for it goes where the mic goes."""
        with pytest.raises(SettingsError, match="its level and mute can"):
            scenes.check(with_scene(laid, {"mics.low.pan": 0.5}))


class TestPromise:
    """Random scenes over random rigs."""

    @pytest.mark.long
    @pytest.mark.parametrize("seed", [901])
    def test_spans_streams_and_caches(self, kit, plan, seed):
        """Any span equals the streamed song within -90 dBFS; cached, threaded and alone is the same to the last bit."""
        mine = random_scenes(random_rig(plan, seed), seed)
        scenes.check(mine)
        stream, out = streamed(mine, kit, size=30_011)
        rng, cache = np.random.default_rng(seed), SpanCache()
        names = ["kit", stream.stems[0], f"strip:{mine.mics[0].id}"]
        with ThreadPoolExecutor(2) as pool:
            for name in names:
                start = int(rng.choice([LINE - 30_000, LINE - 96_000, 2000])) + int(rng.integers(0, 20_000))
                span = (start, start + 40_000)
                got = render(mine, kit, span, name)
                assert apart_db(got, out[name][slice(*span)]) < -90, name
                assert np.array_equal(got, render(mine, kit, span, name, cache, pool)), name
                assert np.array_equal(got, render(mine, kit, span, name, cache, pool)), name

    def test_only_where_it_is_heard(self, kit, plan, monkeypatch):
        """In a verse, a row that holds in the chorus is not rendered."""
        from arkund.core.render import lanes

        mics = tuple(mic.replace(tools=(Compressor(on=True, threshold_db=-20.0),)) for mic in plan.mics)
        mine, asked = with_scene(plan.replace(mics=mics), {"mics.SN top.tools.compressor.ratio": 9.0}), []
        usual_ask = lanes.Lanes.ask
        monkeypatch.setattr(
            lanes.Lanes, "ask", lambda self, name: asked.append((name, name in self.places)) or usual_ask(self, name)
        )
        render(mine, kit, (20_000, 60_000))
        assert ("mic:SN top.1", True) in asked
        assert ("mic:SN top.2", True) not in asked


class TestRefused:
    """What makes no sense is said in a sentence."""

    def test_a_release_by_note_value(self, plan):
        """Is the song's: it follows the tempo of all of it. In ms, and by itself, it can be set by section."""
        mics = tuple(mic.replace(tools=(Compressor(on=True),)) for mic in plan.mics)
        at = "mics.SN top.tools.compressor"
        for held in ({f"{at}.release_ms": 300.0}, {f"{at}.release_by": "itself"}):
            scenes.check(with_scene(plan.replace(mics=mics), held))
        with pytest.raises(SettingsError, match="set release_ms in the scene instead"):
            scenes.check(with_scene(plan.replace(mics=mics), {f"{at}.release_by": "1/8"}))

    @pytest.mark.parametrize(
        ("held", "words"),
        [
            ({"mics.nobody.level_db": -3.0}, "no 'nobody' here"),
            ({"mics.SN top.level_db": 900.0}, "outside -60 to 12 dB"),
            ({"mics.SN top.tools.reverb.on": True}, "no 'reverb' here"),
            ({"mics.SN top.level_db": "loud"}, "expected a number"),
        ],
    )
    def test_held(self, plan, held, words):
        """It names the scene, the place and what is there."""
        with pytest.raises(SettingsError, match=words):
            scenes.check(with_scene(plan, held))

    @pytest.mark.parametrize(
        "place",
        ["mics.SN top.line_up.delay_ms", "tempo.bpm", "cuts", "mics.SN top.repair", "mics.SN top.tools.gate.id"],
    )
    def test_what_no_scene_holds(self, place):
        """Time, edits, names."""
        with pytest.raises(SettingsError, match="cannot be held"):
            Held(place=place, value=1.0)

    def test_too_many_ranges(self):
        """A scene of endless ranges is not taken, one of the most allowed is."""
        ranges = tuple((2 * k, 2 * k + 1) for k in range(MOST_RANGES))
        assert Scene(id="a", name="A", bars=ranges).bars == ranges
        with pytest.raises(SettingsError, match=f"at most {MOST_RANGES} sections"):
            Scene(id="a", name="A", bars=(*ranges, (5000, 5001)))

    def test_two_on_one_setting(self, plan):
        """Only where they hold in the same bar."""
        mine = with_scene(plan, {"kit.level_db": -6.0})
        other = Scene(id="b", name="B", bars=((0, 3),), held=(Held(place="kit.level_db", value=1.0),))
        with pytest.raises(SettingsError, match=r"Lift and B both set kit\.level_db in bar 3"):
            scenes.check(mine.replace(scenes=(*mine.scenes, other)))
        scenes.check(mine.replace(scenes=(*mine.scenes, other.replace(bars=((0, 2),)))))

    def test_a_circle_across_scenes(self, plan):
        """Neither closes it alone."""
        plan = plan.replace(paths=(usual.punch(), usual.sustain()))
        mine = with_scene(plan, {"paths.punch.sends.sustain.level_db": -6.0})
        mine = mine.replace(
            scenes=(
                *mine.scenes,
                Scene(
                    id="b",
                    name="B",
                    bars=((0, 1),),
                    held=(Held(place="paths.sustain.sends.punch.level_db", value=-6.0),),
                ),
            )
        )
        with pytest.raises(SettingsError, match="circle"):
            scenes.check(mine)
