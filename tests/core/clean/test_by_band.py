"""Rings and bleed turned down by frequency: where they are, only then, and own hits as they were."""

import numpy as np
import pytest

from arkund.core.clean.by_band import Spectra, bleed, loudest_other, ring
from arkund.core.clean.propose import gentler, rolls, start_settings
from arkund.core.errors import SettingsError
from arkund.core.plan.plan import LineUp, MicPlan, Plan, Struck
from arkund.core.render.keys import Keys
from arkund.core.render.source import Sources
from arkund.core.tools.tool import Key
from tests.core.tools.test_regions import Noise
from tests.stages import RATE, through

HZ = np.geomspace(20.0, 20_000.0, 400)


def spectrum(floor_db: float, *tones: tuple[float, float]) -> tuple[float, ...]:
    out = np.full(HZ.size, floor_db) - 3.0 * np.log2(HZ / 1000.0)
    for hz, db in tones:
        out = np.maximum(out, db - 60.0 * np.abs(np.log2(HZ / hz)) / 0.2)
    return tuple(out.tolist())


class TestRing:
    """A drum that answers others with its own tones."""

    HEARD = Spectra(tuple(HZ.tolist()), spectrum(-60, (110, -10), (230, -20)), spectrum(-70, (110, -30), (65, -20), (230, -35)))  # fmt: skip

    def test_its_own_tones_alone(self):
        """What others bring with them, and what is no tone, is no ring."""
        found = [band.frequency_hz for band in ring("tom1", self.HEARD).bands]
        assert found == pytest.approx([110.0, 230.0], rel=0.02)

    def test_own_hits_are_as_they_were(self):
        """Held open by a strike the cuts and their lifts undo each other within a tenth of a decibel; at rest they are as deep as was set."""
        tool = ring("tom1", self.HEARD)
        t = np.arange(2 * RATE) / RATE
        x = (0.2 * np.sin(2 * np.pi * tool.bands[0].frequency_hz * t)).astype(np.float32)
        key = np.zeros(x.size, np.float32)
        key[RATE:] = 0.1
        y = through(tool, x, key=key)
        level = lambda part: 10 * np.log10(np.mean(part.astype(float) ** 2) / np.mean(x.astype(float) ** 2))
        assert level(y[RATE // 2 : RATE - 200]) == pytest.approx(-12.0, abs=0.3)
        assert level(y[RATE + 4800 :]) == pytest.approx(0.0, abs=0.1)
        noise = 0.1 * np.random.default_rng(3).standard_normal(2 * RATE).astype(np.float32)
        open_ = through(tool, noise, key=np.full(noise.size, 0.1, np.float32))
        power = [np.abs(np.fft.rfft(each[RATE // 2 :])) ** 2 for each in (noise, open_)]
        parts = [np.array([part.sum() for part in np.array_split(each[20:40_000], 200)]) for each in power]
        assert np.abs(10 * np.log10(parts[1] / parts[0])).max() < 0.2

    def test_none(self):
        """Said where nothing stands out."""
        with pytest.raises(SettingsError, match="no tone of the tom1 stands out"):
            ring("tom1", Spectra(tuple(HZ.tolist()), spectrum(-60, (110, -10)), spectrum(-70)))


class TestBleed:
    """One drum inside another's mic."""

    def test_where_it_stands_out(self):
        """The hat's top in a snare, not what is softer there than the snare itself."""
        own = spectrum(-40, (200, -5))
        hat = tuple(np.where(np.array(HZ) > 4000, -45.0, -90.0).tolist())
        tool = bleed("snare", "hihat", Spectra(tuple(HZ.tolist()), own, hat))
        assert min(band.frequency_hz for band in tool.bands) > 3000
        assert tool.key.of == "hits:hihat-snare"

    def test_whose(self):
        """The loudest; none where none is heard alone."""
        assert loudest_other({"kick": (-20.0, -22.0), "hihat": (-30.0,)}) == "kick"
        with pytest.raises(SettingsError, match="no other drum's hits"):
            loudest_other({})


class TestLoneStrikes:
    """Strikes of one piece that no strike of another is near."""

    def plan(self) -> Plan:
        mics = (
            MicPlan(id="sn", name="Sn", piece="snare", role="top", line_up=LineUp(delay_ms=5.0)),
            MicPlan(id="hh", name="Hh", piece="hihat", role="close"),
        )
        hats = tuple((48_000 * k, -20.0) for k in range(1, 6))
        snares = ((48_000 * 2 + 100, -6.0), (48_000 * 4 - 1500 - 240, -6.0))
        return Plan(
            take="t", mics=mics, struck=(Struck(piece="hihat", strikes=hats), Struck(piece="snare", strikes=snares))
        )

    def test_those_near_another_are_left_out(self):
        """As they sound, each in its own mic's time."""
        plan = self.plan()
        keys = Keys(plan, Sources(plan, Noise()), RATE)
        heard = keys.read(Key(of="hits:hihat-snare", early_ms=0.0), 0, 6 * 48_000)
        begins = np.flatnonzero(np.diff(np.concatenate([[0.0], heard])) > 0)
        assert begins.tolist() == [48_000, 3 * 48_000, 5 * 48_000]

    def test_both_must_be_kept(self):
        """A key to strikes that nobody has kept is refused with the name of the drum."""
        from arkund.core.tools.compressor import Compressor

        plan = self.plan()
        tool = Compressor(key=Key(of="hits:hihat-kick"))
        with pytest.raises(SettingsError, match="no kept strikes of 'kick'"):
            plan.replace(mics=(plan.mics[0].replace(tools=(tool,)), plan.mics[1]))


class TestRolls:
    """Rolls and soft playing want a gentler gate."""

    def test_counted(self):
        """Four strokes and more that follow quickly; a flam is none."""
        roll = [1.0 + 0.08 * k for k in range(6)]
        assert rolls([0.0, 0.5, *roll, 3.0, 3.02, *[5.0 + 0.1 * k for k in range(4)]]) == 2
        assert rolls([0.0, 0.25, 0.5, 0.75]) == 0
        assert rolls([]) == 0

    def test_gentler(self):
        """Slower, longer, less deep."""
        usual = start_settings(MicPlan(id="sn", name="Sn", piece="snare", role="top"))
        soft = gentler(usual)
        assert soft.attack_ms > usual.attack_ms
        assert soft.hold_ms > usual.hold_ms
        assert soft.release_ms > usual.release_ms
        assert soft.range_db <= 10.0
