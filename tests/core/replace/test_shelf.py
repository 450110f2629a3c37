"""Which hits are worth keeping, what files say of their strength, what stands in for what, and a shelf as a folder."""

import json

import numpy as np
import pytest
import soundfile

from arkund.core.errors import AudioError, SettingsError
from arkund.core.hits.resolve import Hit
from arkund.core.plan import change
from arkund.core.plan.plan import Plan
from arkund.core.replace import shelf, shelf_folder
from arkund.core.replace.exchange import exchanged
from arkund.core.replace.shelf import best, capture_of, one_shot, proposed, shots_of, strengths_db
from arkund.core.replace.shelf_folder import ShelfHit

RATE = 48_000
PLAN = Plan(take="t")


def song(ghosts: int = 8) -> dict[str, list[Hit]]:
    """Return back-beats of three strengths a second apart, each third with a kick close behind it, and ghosts between."""
    snare = [Hit("snare", 1.0 + k, (-6.0, -9.0, -14.0)[k % 3], 100, False) for k in range(18)]
    snare += [Hit("snare", 1.4 + k, -28.0, 40, True) for k in range(ghosts)]
    kick = [Hit("kick", 1.06 + 3 * k, -6.0, 100, False) for k in range(6)]
    return {"kick": kick, "snare": sorted(snare, key=lambda h: h.time_s)}


class TestProposed:
    """Clean, of several strengths, with variants."""

    def test_strengths(self):
        """Two of each, none of those with a kick in them, and ghosts where there are some."""
        kept = proposed(PLAN, song(), "snare", RATE)
        levels = sorted({c.level_db for c in kept})
        assert levels[0] == -28.0
        assert {-14.0, -9.0} <= set(levels)
        loud = [c for c in kept if c.level_db == -6.0]
        assert not loud or all(c.length < 0.06 * RATE for c in loud)  # only where nothing else is as strong
        assert len({c.id for c in kept}) == len(kept)
        assert -28.0 not in {c.level_db for c in proposed(PLAN, song(ghosts=3), "snare", RATE)}

    def test_alone(self):
        """The hit with the most room around it comes first, and ends before the next drum."""
        hits = {"snare": [Hit("snare", t, -6.0, 120, False) for t in (1.0, 1.08, 2.0, 3.0, 3.05)]}
        hits["kick"] = [Hit("kick", 2.34, -6.0, 120, False)]
        (first,) = best(hits, "snare", -6.0, 1)
        assert first.time_s == 2.0
        kept = capture_of(PLAN, hits, first, RATE)
        assert kept.at == 2 * RATE
        assert 0.32 * RATE < kept.length < 0.34 * RATE

    def test_none(self):
        """Without hits, or with ghosts alone, there is nothing to keep."""
        with pytest.raises(SettingsError, match="no hit of 'snare'"):
            proposed(PLAN, {}, "snare", RATE)
        with pytest.raises(SettingsError, match="choose one in the picture"):
            shelf.at_time(song(), "snare", 40.0)

    def test_full(self):
        """The shelf says when it is full; what is there already is not put there twice."""
        kept = proposed(PLAN, song(), "snare", RATE)
        plan = PLAN.replace(captures=tuple(kept))
        assert shelf.with_captures(plan, kept) == kept
        many = [kept[0].replace(id=f"c{k}", at=1000 * k) for k in range(500)]
        with pytest.raises(SettingsError, match="at most 500"):
            shelf.with_captures(plan, many)

    def test_shots(self):
        """A hit of the song stands for its own strength; of files the strongest for the strongest tenth. All are brought to the usual level."""
        own = proposed(PLAN, song(), "snare", RATE)
        usual, levels = -9.0, [h.level_db for h in song()["snare"]]
        for c, shot in zip(own, shots_of(own, usual, levels, {own[0].id: 0.25}), strict=True):
            assert shot.for_db == pytest.approx(c.level_db + 9.0)
            assert shot.gain_db == pytest.approx(-9.0 - c.level_db)
            assert shot.late_samples == (0.25 if c is own[0] else 0.0)
        parts = [{"key": "a"}]
        files = [own[0].from_json(own[0].to_json() | {"take": "shelf", "parts": parts, "level_db": -1.0, "strength_db": s}) for s in (0.0, -6.0)]  # fmt: skip
        strong, soft = shots_of(files, usual, levels, {})
        assert strong.for_db == pytest.approx(3.0)
        assert (soft.for_db, soft.gain_db) == (pytest.approx(-3.0), pytest.approx(-8.0))


class TestStrengths:
    """What names and levels say."""

    @pytest.mark.parametrize(
        ("names", "peaks", "wanted"),
        [
            (["sn_v1", "sn_v2", "sn_v3"], [-1, -1, -1], [-12.0, -6.0, 0.0]),
            (["a vel032", "a vel064", "a vel127"], [-1, -1, -1], [-23.9, -11.9, 0.0]),
            (["Soft 1", "Soft 2", "Hard"], [-1, -1, -1], [-6.0, -6.0, 0.0]),
            (["one", "two"], [-12.0, -3.0], [-9.0, 0.0]),
            (["one", "two"], [-3.4, -3.0], [0.0, 0.0]),
            (["snare v2 rr1", "snare v2 rr2"], [-1, -1], [0.0, 0.0]),
        ],
    )
    def test_by_name_or_level(self, names, peaks, wanted):
        """Numbers, words, else levels; variants of one strength are told as such."""
        assert strengths_db(names, peaks) == pytest.approx(wanted, abs=0.1)


class TestOneShot:
    """Where a hit from a file begins."""

    @pytest.mark.parametrize("silence", [0, 37, 4800])
    @pytest.mark.parametrize("seed", [61, 62])
    def test_its_first_sample(self, silence, seed):
        """After any silence, over a quiet noise, within a twentieth of a millisecond."""
        rng = np.random.default_rng(seed)
        stroke = rng.standard_normal(9000) * np.exp(-np.arange(9000) / 1500)
        x = np.concatenate([np.zeros(silence), stroke]) * 0.2 + 1e-5 * rng.standard_normal(silence + 9000)
        assert abs(one_shot(x.astype(np.float32), RATE, "x").at - silence) <= 0.00005 * RATE

    def test_refused(self):
        """Silence, and what is no hit at all; a clipped one is taken and said."""
        with pytest.raises(AudioError, match=r"x\.wav: is silent"):
            one_shot(np.zeros(9000, np.float32), RATE, "x.wav")
        with pytest.raises(AudioError, match="600 s long; a hit is at most 20 s"):
            one_shot(np.zeros(600 * RATE, np.float32), RATE, "x.wav")
        told = one_shot(np.ones(9000, np.float32), RATE, "x.wav").told
        assert "9000 samples at full scale" in told[0]


class TestExchanged:
    """One for another."""

    def test_one_that_fits(self):
        """In all mics: a hit of the wanted strength, ending before the next stroke on either side; played as strong as the usual one."""
        made = exchanged(PLAN, song(0), "snare", 11.0, RATE)
        plan = change.put(PLAN, made.changes)
        (placed,), (kept,) = plan.placements, plan.captures
        assert placed.everywhere
        assert placed.at == 11 * RATE
        assert kept.at != 11 * RATE
        assert abs(kept.level_db + 9.0) <= 3.0
        assert "in all mics" in made.words

    @pytest.mark.parametrize("seed", range(3))
    def test_of_the_shelf(self, seed):
        """In its own mics, at the strength that is asked for; what stood there before goes."""
        rng = np.random.default_rng(seed)
        hits = song()
        plan = PLAN.replace(captures=tuple(proposed(PLAN, hits, "snare", RATE)))
        kept = plan.captures[int(rng.integers(len(plan.captures)))]
        target = hits["snare"][int(rng.integers(len(hits["snare"])))]
        for as_played, level in ((True, target.level_db), (False, -9.0)):
            made = exchanged(plan, hits, "snare", target.time_s + 0.01, RATE, capture_id=kept.id, everywhere=False, as_played=as_played)  # fmt: skip
            plan = change.put(plan, made.changes)
            (placed,) = plan.placements
            assert not placed.everywhere
            assert placed.gain_db == pytest.approx(level - kept.level_db, abs=0.01)
            assert placed.at == round(target.time_s * RATE)

    @pytest.mark.parametrize("everywhere", [False, True])
    def test_struck_together(self, everywhere):
        """Drums exchanged in their own mics at one place both stand; in all mics the later takes the earlier away."""
        hits = song() | {"tom1": [Hit("tom1", 3.001, -8.0, 90, False)]}
        kept = [capture_of(PLAN, hits, hits[piece][0], RATE) for piece in ("tom1", "snare")]
        plan = PLAN.replace(captures=tuple(kept))
        for capture, at_s in zip(kept, (3.001, 3.0), strict=True):
            made = exchanged(plan, hits, capture.piece, at_s, RATE, capture_id=capture.id, everywhere=everywhere)
            plan = change.put(plan, made.changes)
        assert {p.capture for p in plan.placements} == {c.id for c in (kept[1:] if everywhere else kept)}

    def test_refused(self):
        """No such hit, none that fits, no drum."""
        lone = {"snare": [Hit("snare", 1.0, -6.0, 100, False), Hit("snare", 2.0, -30.0, 100, False)]}
        for call, words in (
            (lambda: exchanged(PLAN, song(), "snare", 1.0, RATE, capture_id="gone"), "no hit 'gone'"),
            (lambda: exchanged(PLAN, lone, "snare", 1.0, RATE, everywhere=False, as_played=True), "no other snare hit within 3 dB"),
            (lambda: exchanged(PLAN, lone, "snare", 1.0, RATE, as_played=True), "try its own mics alone"),
            (lambda: exchanged(PLAN, {}, "tom1", 1.0, RATE), "no hits of 'tom1'"),
        ):  # fmt: skip
            with pytest.raises(SettingsError, match=words):
                call()


@pytest.fixture
def folder(tmp_path):
    """Return a written shelf of two hits, one with two mics."""
    rng = np.random.default_rng(9)
    sound = lambda: (0.3 * rng.standard_normal(6000)).astype(np.float32)
    hits = [ShelfHit(name=f"Hit {k}", at=40, length=5000, level_db=-3.0, strength_db=-6.0 * k) for k in range(2)]
    shelf_folder.write(tmp_path / "shelf", RATE, hits, [[("top", sound()), ("bottom", sound())], [("close", sound())]])
    return tmp_path / "shelf"


class TestFolder:
    """Out and in again."""

    def test_the_same(self, folder):
        """Samples to the bit, and all that is said of them; at another rate the same moments."""
        hits, sounds = shelf_folder.read(folder, RATE)
        assert [(h.name, h.at, h.length, h.strength_db) for h in hits] == [("Hit 0", 40, 5000, 0.0), ("Hit 1", 40, 5000, -6.0)]  # fmt: skip
        assert [[role for role, _ in row] for row in sounds] == [["top", "bottom"], ["close"]]
        kept = soundfile.read(folder / "001-snare-top.wav", dtype="float32")[0]
        assert np.array_equal(sounds[0][0][1], kept)
        double, _ = shelf_folder.read(folder, 96_000)
        assert (double[0].at, double[0].length) == (80, 10_000)

    @pytest.mark.parametrize(
        ("change_of", "words"),
        [
            (lambda d: d["hits"][0]["files"][0].update(file="../secret.wav"), "not of the form"),
            (lambda d: d["hits"][0]["files"][0].update(file="/etc/x.wav"), "not of the form"),
            (lambda d: d["hits"][0]["files"][0].update(file="gone.wav"), r"gone\.wav: is not in the shelf's folder"),
            (lambda d: d["hits"][0].update(at=999_999), "begins after its end"),
            (lambda d: d["hits"][0].update(files=[]), "has no file"),
            (lambda d: d["hits"][0].update(piece="triangle"), "expected one of kick"),
            (lambda d: d.update(arkund_shelf=9), "outside 1 to 1"),
            (lambda d: d.update(sample_rate_hz=44_100), "says 44100 Hz"),
            (lambda d: d.update(hits=[]), "has 0 hits"),
            (lambda d: d["hits"][1].update(files=d["hits"][1]["files"] * 65), "hits.1: has 65 files; at most 64"),
            (lambda d: d.update(more=1), "unknown key 'more'"),
        ],
    )
    def test_broken_descriptions(self, folder, change_of, words):
        """Paths that climb, files that are not there, values out of range: said with what and where."""
        data = json.loads((folder / "shelf.json").read_text())
        change_of(data)
        (folder / "shelf.json").write_text(json.dumps(data))
        with pytest.raises(AudioError, match=words):
            shelf_folder.read(folder, RATE)

    def test_many_hits_of_one_file(self, folder):
        """A file that 500 hits name is read once, and all of them share its samples."""
        data = json.loads((folder / "shelf.json").read_text())
        data["hits"] = [data["hits"][1] | {"at": k} for k in range(500)]
        (folder / "shelf.json").write_text(json.dumps(data))
        hits, sounds = shelf_folder.read(folder, 96_000)
        assert [hit.at for hit in hits] == [2 * k for k in range(500)]
        assert len({id(samples) for row in sounds for _, samples in row}) == 1

    def test_no_shelf(self, folder, tmp_path):
        """No description, half of one, a link out of the folder, a folder that is there already."""
        with pytest.raises(AudioError, match=r"no shelf\.json in it"):
            shelf_folder.read(tmp_path, RATE)
        (folder / "002-snare-close.wav").unlink()
        (folder / "002-snare-close.wav").symlink_to("/etc/hostname")
        with pytest.raises(AudioError, match="is not in the shelf's folder"):
            shelf_folder.read(folder, RATE)
        with pytest.raises(AudioError, match="is there already"):
            shelf_folder.write(folder, RATE, [], [])
        (folder / "shelf.json").write_text('{"hits": [')
        with pytest.raises(AudioError, match="does not describe a shelf"):
            shelf_folder.read(folder, RATE)
