"""Recognition of names in every usual spelling."""

from pathlib import Path

import pytest

from arkund.core.kit.names import recognise, recognise_folder
from arkund.core.kit.pieces import CLOSE_ROLES, PIECES, ROLES, group_of, kit_order, timing_mic, words_of
from arkund.core.plan.plan import MicPlan
from tests.core.kit.spellings import FOLDERS, generated

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
    ("sn-top 83.wav", "snare", "top"),
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


class TestFolders:
    """A folder is solved as a whole."""

    @pytest.mark.parametrize("style", FOLDERS)
    def test_by_hand(self, style):
        """Each name of sixteen folders in styles of their own."""
        names = [name for name, _ in FOLDERS[style]]
        found = [(x.piece, x.role, x.side) for x in recognise_folder(names)]
        assert found == [truth for _, truth in FOLDERS[style]]

    @pytest.mark.parametrize("style", FOLDERS)
    def test_whatever_their_order(self, style):
        """A folder is no row: backwards it says the same, but for what is a guess by order."""
        rows = FOLDERS[style][::-1]
        found = recognise_folder([name for name, _ in rows])
        assert all((x.piece, x.role, x.side) == t or x.confidence < 0.6 for x, (_, t) in zip(found, rows, strict=True))

    def test_generated_spellings(self):
        """200 folders in mixed styles: at least 97 % right, and none wrong that claims more than 90 %."""
        right, wrong_and_sure, count = 0, [], 0
        for seed in range(70_000, 70_200):
            rows = generated(seed)
            for (name, truth), found in zip(rows, recognise_folder([n for n, _ in rows]), strict=True):
                count += 1
                fits = (found.piece, found.role, found.side) == truth
                right += fits
                if not fits and found.confidence > 0.9:
                    wrong_and_sure.append((seed, name, found))
        assert count > 2000
        assert right / count >= 0.97
        assert wrong_and_sure == []

    @pytest.mark.parametrize(
        ("names", "place", "piece", "most"),
        [
            (["T1", "T2", "T3"], 2, "floor", 0.9),  # the third is the floor tom, as most would say
            (["T1", "T2", "T3", "FT"], 2, "tom3", 1.0),
            (["FT1", "FT2", "T1"], 1, "floor", 1.0),  # the lower of two
            (["Kick", "Kick 2", "SN"], 1, "kick", 0.6),
            (["Snare Room", "Snare Top", "OH"], 0, "kit", 0.6),  # two drums in one name
            (["kick in", "kick in copy", "SN"], 1, "kick", 0.6),  # claimed twice
            (["Tom", "Tom b", "Kick"], 1, "tom2", 0.6),
        ],
    )
    def test_conclusions_are_not_sure(self, names, place, piece, most):
        """What only the other names say is said with less confidence."""
        found = recognise_folder(names)[place]
        assert found.piece == piece
        assert found.confidence <= most

    @pytest.mark.parametrize("names", [["rack", "rack 2", "floor"], ["Tom", "Tom 2"], ["Tom", "Tom 2", "Tom 3", "FT"]])
    def test_the_one_without_a_number_is_the_first(self, names):
        """Nobody is asked about it."""
        found = recognise_folder(names)
        assert [x.piece for x in found][:2] == ["tom1", "tom2"]
        assert min(x.confidence for x in found) > 0.9

    def test_no_two_drums_become_one(self):
        """Whatever numbers stand in front."""
        names = ["06_Tom_1", "07_rack_tom_2", "08 Rack 3", "09 Tom Floor"]
        assert [x.piece for x in recognise_folder(names)] == ["tom1", "tom2", "tom3", "floor"]


class TestDocumented:
    """The table of docs/names.md."""

    def test_each_is_so(self):
        """Folder by folder."""
        text = (Path(__file__).parents[3] / "docs" / "names.md").read_text().partition("\n# Doubted")[0]
        for folder in text.split("\n## ")[1:]:
            rows = [line.strip("| ").split(" | ") for line in folder.splitlines() if line.startswith("| ")][1:]
            found = recognise_folder([name for name, _ in rows])
            assert len(rows) > 4
            told = [f"{words_of(mine.piece, mine.role)} {mine.side}".strip() for mine in found]
            assert told == [mic for _, mic in rows]


class TestPieces:
    """Groups, order and timing mics."""

    @pytest.mark.parametrize(
        ("piece", "role", "group"),
        [
            ("kick", "sub", "kick"),
            ("tom3", "close", "toms"),
            ("floor", "close", "toms"),
            ("kit", "overhead", "overheads"),
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
