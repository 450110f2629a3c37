"""Names that say nothing are told by sound, as unsure ones; names that say something stand."""

import numpy as np
import pytest

from arkund.core.kit.names import NOTHING, Recognised, recognise_folder
from arkund.core.kit.pieces import is_tom
from arkund.core.load.naming import ASKED_BELOW, settled
from arkund.core.load.sound import fundamental_hz
from tests.kits import small_kit


@pytest.fixture(scope="module")
def kit():
    return small_kit(seed=9412, style="straight", bpm=110.0, bars=8)


def truth_of(kit) -> list[Recognised]:
    return [Recognised(mic.piece, mic.role, mic.side, 0.98) for mic in kit.plan.mics]


class TestSettled:
    """What a take's mics are."""

    def test_sure_names_stand(self, kit):
        """Their sound is not even asked."""
        named = truth_of(kit)
        assert settled(named, [None] * len(named), kit.sample_rate_hz) == named

    @pytest.mark.long
    def test_one_name_that_says_nothing(self, kit):
        """It gets the place that is left, if it sounds like that, and is asked about."""
        named, readers = truth_of(kit), [kit.readers[mic.id] for mic in kit.plan.mics]
        right = 0
        told = [
            k for k, mic in enumerate(kit.plan.mics) if mic.piece in ("kick", "snare", "hihat") or is_tom(mic.piece)
        ]
        for k in told:
            found = settled([*named[:k], NOTHING, *named[k + 1 :]], readers, kit.sample_rate_hz)
            assert found[:k] + found[k + 1 :] == named[:k] + named[k + 1 :]
            assert found[k].confidence < ASKED_BELOW
            right += (found[k].piece, found[k].role) == (named[k].piece, named[k].role)
        assert right >= len(told) - 2

    def test_too_few_to_tell(self, kit):
        """Two mics have nothing to be held against."""
        readers = [kit.readers[mic.id] for mic in kit.plan.mics[:2]]
        assert settled([NOTHING, NOTHING], readers, kit.sample_rate_hz) == [NOTHING, NOTHING]

    def test_toms_in_the_order_of_their_pitch(self, kit):
        """Where names don't say which is which, the higher one comes first."""
        toms = sorted((mic for mic in kit.plan.mics if is_tom(mic.piece)), key=lambda mic: mic.piece == "floor")
        low_first = [toms[-1], *toms[:-1]]
        named = recognise_folder([f"Tom {word}" for word in ("x", "y", "z")][: len(toms)])
        found = settled(named, [kit.readers[mic.id] for mic in low_first], kit.sample_rate_hz)
        assert found[0].piece == max((mine.piece for mine in named), key=lambda piece: (piece == "floor", piece))
        assert all(mine.confidence < ASKED_BELOW for mine in found)


class TestFundamental:
    """A tom's pitch, before any hit is found."""

    def test_floor_tom_is_the_lowest(self, kit):
        """On the generated kit, whose floor tom is tuned lowest."""
        pitch = {m.id: fundamental_hz(kit.readers[m.id], kit.sample_rate_hz) for m in kit.plan.mics if is_tom(m.piece)}
        assert min(pitch, key=pitch.get) == "FT"

    def test_silence(self):
        """Has none."""

        class Silent:
            length = 48_000

            def read(self, start, stop):
                return np.zeros(stop - start, np.float32)

        assert fundamental_hz(Silent(), 48_000) is None
