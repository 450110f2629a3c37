"""What detectors listen to elsewhere: other mics, drums, groups and strikes."""

import numpy as np
import pytest

from arkund.core.errors import SettingsError
from arkund.core.plan.plan import Cut, LineUp, Struck
from arkund.core.render.render import key_listen, render
from arkund.core.rig import usual
from arkund.core.rig.strips import Group
from arkund.core.tools.compressor import Compressor
from arkund.core.tools.gate import Gate
from arkund.core.tools.grit import Grit
from arkund.core.tools.tool import Key
from arkund.core.units import db_to_gain, gain_to_db
from tests.kits import small_kit
from tests.rigs import struck_of

RATE = 48_000


@pytest.fixture(scope="module")
def kit():
    return small_kit(seed=777, style="straight", bpm=116.0, bars=3, drop=("Talkback", "Rm L", "Rm R", "T2", "Ride"))


def held_down(plan, of: str, **more):
    """A Plan whose overheads' group is held down by a key; the group, and the gain that it has, in dB, are told by the caller."""
    tool = Compressor(on=True, threshold_db=-30.0, ratio=3.0, attack_ms=2.0, release_ms=120.0, key=Key(of=of, **more))
    return plan.replace(groups=tuple(g.replace(tools=(tool,)) if g.id == "overheads" else g for g in plan.groups))


def gain_db(kit, plan, span) -> np.ndarray:
    """Return the gain of the overheads' group in dB, where there is sound to see it by."""
    bare = plan.replace(groups=tuple(group.replace(tools=()) for group in plan.groups))
    before, after = (render(each, kit, span, "group:overheads")[:, 0] for each in (bare, plan))
    seen = np.abs(before) > 1e-5
    return np.interp(np.arange(before.size), np.flatnonzero(seen), gain_to_db(after[seen] / before[seen]))


class TestStrikes:
    """No bleed can open them."""

    def test_the_snare_alone_is_tucked_in(self, kit):
        """The overheads fall at every snare hit, by as much each time, and nowhere else, whatever else is struck."""
        plan = held_down(kit.plan.replace(struck=struck_of(kit)), "hits:snare")
        span = (2 * RATE, kit.samples - RATE)
        gain = gain_db(kit, plan, span)
        own = [h.time_s for h in kit.hits["snare"]]
        loud = [h.time_s for h in kit.hits["snare"] if h.level_db > -20.0]
        at = [round(t * RATE) - span[0] for t in loud if 2.2 < t < span[1] / RATE - 0.2]
        assert len(at) > 4
        assert all(gain[k : k + RATE // 30].min() < -4.0 for k in at)
        others = [h.time_s for piece in ("kick", "hihat") for h in kit.hits[piece]]
        alone = [t for t in others if 2.2 < t < span[1] / RATE - 0.2 and all(not -0.03 < t - s < 1.0 for s in own)]
        assert alone
        assert all(gain[round(t * RATE) - span[0]] > -0.1 for t in alone)

    def test_a_little_early(self, kit):
        """A gate on strikes is open before the hit comes, by as much as is set."""
        tool = Gate(
            on=True, threshold_db=-60.0, lookahead_ms=0.0, range_db=60.0, key=Key(of="hits:snare", early_ms=3.0)
        )
        plan = kit.plan.replace(struck=(Struck(piece="snare", strikes=((150_000, -20.0),)),))
        plan = plan.replace(mics=tuple(m.replace(tools=(tool,)) for m in plan.mics))
        key = key_listen(plan, kit, "KD in", "gate", (149_000, 152_000))[:, 0]
        begins = 1000 - round(0.003 * RATE)
        assert not key[:begins].any()
        assert key[begins:][: round(0.03 * RATE)] == pytest.approx(db_to_gain(-20.0), rel=1e-5)

    def test_where_it_sounds(self, kit):
        """After the edits, as late and as loud as the piece's own mic is set."""
        plan = kit.plan.replace(
            struck=(Struck(piece="snare", strikes=((150_000, -20.0),)),),
            cuts=(Cut(at=140_000, shift=500), Cut(at=200_000, shift=0)),
        )
        mics = tuple(
            mic.replace(
                tools=(Gate(key=Key(of="hits:snare", early_ms=0.0)),),
                **({"trim_db": 6.0, "line_up": LineUp(delay_ms=1.0)} if mic.id == "SN top" else {}),
            )
            for mic in plan.mics
        )
        key = key_listen(plan.replace(mics=mics), kit, "KD in", "gate", (150_000, 152_000))[:, 0]
        assert np.flatnonzero(key)[0] == 500 + 48
        assert key.max() == pytest.approx(db_to_gain(-14.0), rel=1e-5)


class TestStrips:
    """Sources of mics and drums, and groups after their tools."""

    def test_a_mic_and_a_drum(self, kit):
        """A drum is the sum of its own mics, before any tool."""
        tools = {of: Gate(key=Key(of=of)) for of in ("mic:SN top", "drum:snare")}
        span = (100_000, 110_000)
        heard = {}
        for of, tool in tools.items():
            plan = kit.plan.replace(
                mics=tuple(m.replace(tools=(tool, Compressor(on=True, threshold_db=-50.0))) for m in kit.plan.mics)
            )
            heard[of] = key_listen(plan, kit, "KD in", "gate", span)[:, 0]
        own = [mic.id for mic in kit.plan.mics if mic.piece == "snare"]
        assert np.array_equal(heard["mic:SN top"], kit.audio["SN top"][slice(*span)].astype(np.float32))
        assert heard["drum:snare"] == pytest.approx(sum(kit.audio[mic][slice(*span)] for mic in own), abs=1e-6)

    def test_a_group_holds_another_down(self, kit):
        """What the key does is what the same signal as the strip's own would."""
        plan = kit.plan.replace(groups=(*kit.plan.groups, Group(id="bass", name="bass")))
        plan = plan.replace(mics=tuple(m.replace(group="bass") if m.piece == "kick" else m for m in plan.mics))
        keyed = held_down(plan, "group:bass")
        span = (150_000, 260_000)
        key = key_listen(keyed, kit, "group:overheads", "compressor", span)
        assert np.array_equal(key, render(plan, kit, span, "group:bass"))
        gain = gain_db(kit, keyed, span)
        loud = np.abs(key).max(axis=1) > db_to_gain(-12.0)
        assert gain[loud].mean() < -3.0
        far = np.convolve(np.abs(key).max(axis=1) > db_to_gain(-40.0), np.ones(2 * 24_000), "full")[: gain.size] == 0
        far[:RATE] = False  # what came before the span is not seen here
        assert not far.any() or gain[far].min() > -0.5

    def test_what_has_no_detector(self, kit):
        """Is said."""
        plan = kit.plan.replace(
            kit=usual.kit(), mics=tuple(mic.replace(tools=mic.with_tool(Grit())) for mic in kit.plan.mics)
        )
        with pytest.raises(SettingsError, match="grit of KD in has no detector"):
            key_listen(plan, kit, "KD in", "grit", (0, 100))
        with pytest.raises(SettingsError, match="no tool 'gate-9' in this row"):
            key_listen(plan, kit, "KD in", "gate-9", (0, 100))
