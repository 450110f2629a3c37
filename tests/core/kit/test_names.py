"""Recognition of names in every usual spelling."""

import pytest

from arkund.core.kit.names import recognise
from arkund.core.kit.pieces import CLOSE_ROLES, PIECES, ROLES, group_of, kit_order, timing_mic
from arkund.core.plan.plan import MicPlan

SPELLINGS = [
    ("kik.wav", "kick", "in"),
    ("KD in.wav", "kick", "in"),
    ("BD_out.wav", "kick", "out"),
    ("01-Kick Out.aif", "kick", "out"),
    ("KickIn_02.wav", "kick", "in"),
    ("kick sub.wav", "kick", "sub"),
    ("SubKick.flac", "kick", "sub"),
    ("bass drum inside.wav", "kick", "in"),
    ("SN T.wav", "snare", "top"),
    ("Snr btm.wav", "snare", "bottom"),
    ("sn-top 57.wav", "snare", "top"),
    ("SNARE_BOT.WAV", "snare", "bottom"),
    ("Snare Under.wav", "snare", "bottom"),
    ("HH.wav", "hihat", "spot"),
    ("Hi-Hat.wav", "hihat", "spot"),
    ("hats.wav", "hihat", "spot"),
    ("T1.wav", "tom1", "close"),
    ("Tom 2.wav", "tom2", "close"),
    ("RackTom1.wav", "tom1", "close"),
    ("FT.wav", "floor", "close"),
    ("Floor Tom.wav", "floor", "close"),
    ("floortom_04.wav", "floor", "close"),
    ("Ride.wav", "ride", "spot"),
    ("OHL.wav", "kit", "overhead"),
    ("OH R.wav", "kit", "overhead"),
    ("Overhead_Left.wav", "kit", "overhead"),
    ("Rm.wav", "kit", "room"),
    ("Room Mono.wav", "kit", "room"),
    ("AMB_L.wav", "kit", "room"),
    ("Talkback.wav", "kit", "talkback"),
]


class TestRecognise:
    """Piece, role, side and confidence."""

    @pytest.mark.parametrize(("name", "piece", "role"), SPELLINGS, ids=[s[0] for s in SPELLINGS])
    def test_usual_spellings(self, name, piece, role):
        """What engineers type is understood."""
        found = recognise(name)
        assert (found.piece, found.role) == (piece, role)
        assert found.confidence >= 0.55

    @pytest.mark.parametrize(
        ("name", "side"), [("OHL.wav", "L"), ("OH R.wav", "R"), ("Room left.wav", "L"), ("OH.wav", "")]
    )
    def test_side(self, name, side):
        """Left and right of a pair."""
        assert recognise(name).side == side

    @pytest.mark.parametrize(
        "name", ["Audio 07.wav", "zzz.wav", "🥁.wav", ".wav", "Überraschung.wav", "x" * 300 + ".wav"]
    )
    def test_names_that_say_nothing(self, name):
        """Confidence 0, and no error."""
        assert recognise(name).confidence == 0.0

    def test_results_are_known_words(self):
        """Only pieces and roles that exist come out."""
        for name, *_ in SPELLINGS:
            found = recognise(name)
            assert found.piece in PIECES
            assert found.role in ROLES


class TestPieces:
    """Groups, order and timing mics."""

    @pytest.mark.parametrize(
        ("piece", "role", "group"),
        [
            ("kick", "sub", "kick"),
            ("tom3", "close", "toms"),
            ("floor", "close", "toms"),
            ("kit", "overhead", "cymbals"),
            ("kit", "room", "rooms"),
        ],
    )
    def test_group(self, piece, role, group):
        """Each mic belongs to one stem."""
        assert group_of(piece, role) == group

    def test_timing_mic(self):
        """Kick in before kick out, snare top before bottom."""
        mics = [MicPlan(id=r, name=r, piece="kick", role=r) for r in ("sub", "out", "in")]
        assert timing_mic(mics, "kick").role == "in"
        assert timing_mic(mics[:2], "kick").role == "out"
        assert timing_mic(mics, "snare") is None
        assert set(CLOSE_ROLES) < set(ROLES)

    def test_order(self):
        """Kick first, rooms last."""
        mics = [MicPlan(id=p, name=p, piece=p, role=r) for p, r in (("kit", "room"), ("snare", "top"), ("kick", "in"))]
        assert [m.piece for m in sorted(mics, key=kit_order)] == ["kick", "snare", "kit"]
