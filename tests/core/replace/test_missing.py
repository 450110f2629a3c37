"""Hits that are missing: found where the playing says so, nowhere else, and put there in all mics."""

import numpy as np
import pytest

import tests.kits
from arkund.core.demo.score import bar_s, play
from arkund.core.hits.measure import find_hits
from arkund.core.hits.resolve import Hit, resolve
from arkund.core.hits.settings import HitSettings
from arkund.core.plan import change
from arkund.core.plan.plan import MicPlan, Plan, Tempo
from arkund.core.render.source import source
from arkund.core.replace.missing import missing
from arkund.core.replace.propose import propose
from tests.foreign import ForeignLibrary
from tests.kits import SmallKit, small_kit
from tests.seeds import seeds

RATE = 48_000
TEMPO = Tempo(bpm=120.0)


def beat(bars: int = 12, without=(), weak=(), more=()) -> dict[str, list[Hit]]:
    """Return kicks on one, snares on two and four, eighths of a hat; bars of two seconds."""
    out = {"kick": [], "snare": [], "hihat": [], "tom1": []}
    for bar in range(bars):
        for piece, beats in (("kick", (0.0, 2.0)), ("snare", (1.0, 3.0)), ("hihat", np.arange(8) / 2)):
            for at in beats:
                if (piece, bar, at) not in without:
                    level = -24.0 if (piece, bar, at) in weak else -6.0
                    out[piece].append(Hit(piece, bar * 2 + at / 2, level, 100, False))
    for piece, bar, at in more:
        out[piece].append(Hit(piece, bar * 2 + at / 2, -6.0, 100, False))
    return {piece: sorted(mine, key=lambda h: h.time_s) for piece, mine in out.items()}


def named(hits: dict) -> list[tuple]:
    return [(m.piece, m.bar, m.place) for m in missing(hits, TEMPO)]


class TestMissing:
    """What is one, and what is none."""

    @pytest.mark.parametrize(("piece", "place"), [("snare", 3.0), ("kick", 0.0)])
    def test_one_that_all_others_have(self, piece: str, place: float):
        """By bar and beat, when, and how strong it would be."""
        (found,) = missing(beat(without={(piece, 5, place)}), TEMPO)
        assert (found.piece, found.bar, found.place) == (piece, 5, place)
        assert found.time_s == pytest.approx(10.0 + place / 2, abs=1e-6)
        assert found.level_db == -6.0
        assert found.alike[0] in (4, 6)

    def test_none_in_a_fill(self):
        """Where toms are played, the pattern is another."""
        fill = [("tom1", 5, 2.5), ("tom1", 5, 3.0)]
        assert named(beat(without={("snare", 5, 3.0)}, more=fill)) == []

    def test_none_where_another_drum_is_struck(self):
        """A kick instead of the snare is meant."""
        assert named(beat(without={("snare", 5, 3.0)}, more=[("kick", 5, 3.0)])) == []

    def test_none_in_a_break(self):
        """Where the hat pauses as well, and where more than one is away."""
        hats = {("hihat", 5, at) for at in np.arange(4, 8) / 2}
        assert named(beat(without={("snare", 5, 3.0), *hats})) == []
        assert named(beat(without={("snare", 5, 3.0), ("snare", 5, 1.0)})) == []

    def test_none_at_the_end(self):
        """The last bar ends where it ends; a short song has too few to be told by."""
        assert named(beat(without={("snare", 11, 3.0)})) == []
        assert named(beat(4, without={("snare", 1, 3.0)})) == []
        assert named({}) == []

    def test_none_that_is_played_now_and_then(self):
        """What half of the bars have is missing nowhere."""
        assert named(beat(more=[("kick", bar, 2.5) for bar in (0, 2, 5, 6, 9)])) == []


def planted(seed: int, style: str, monkeypatch, **more) -> tuple[SmallKit, object]:
    """Return a kit in which one back-beat or kick on one was left out, and that stroke."""
    dropped, rng = [], np.random.default_rng(seed)

    def without(playing):
        strokes, length, last = play(playing), bar_s(playing), playing.bars - 1
        place = {"snare": 0.5 if style == "sixeight" else 0.25, "kick": 0.0}

        def whole(stroke) -> bool:
            bars = (stroke.time_s - playing.start_s) / length - place[stroke.piece]
            return abs(bars - round(bars)) < 0.03 and round(bars) % 4 != 3 and 0 < round(bars) < last

        some = [s for s in strokes if s.piece in place and s.level_db > -6.0 and whole(s)]
        dropped.append(some[int(rng.integers(len(some)))])
        return [s for s in strokes if s is not dropped[0]]

    monkeypatch.setattr(tests.kits, "play", without)
    bpm = {"straight": 118.0, "busy": 100.0, "slow": 70.0, "sixeight": 62.0}[style]
    return small_kit(seed=seed, style=style, bpm=bpm, bars=14, **more), dropped[0]


def found_hits(kit: SmallKit) -> dict[str, list[Hit]]:
    readers = [kit.readers[m.name] for m in kit.kit.mics]
    found = find_hits(readers, kit.channels, kit.sample_rate_hz, HitSettings())
    return resolve({p: [[h.time_s, h.level_db, h.sure] for h in mine] for p, mine in found.items()}, ())


@pytest.mark.long
@pytest.mark.parametrize("library", [None, ForeignLibrary])
@pytest.mark.parametrize("seed", seeds(*range(55_200, 55_206)))
def test_on_kits_with_found_hits(seed: int, library, monkeypatch):
    """Of all styles: the planted one, and no other."""
    style = ("straight", "busy", "slow", "sixeight")[seed % 4]
    kit, gone = planted(seed, style, monkeypatch, **({"strokes_of": library} if library else {}))
    notes = missing(found_hits(kit), kit.plan.tempo)
    assert [(m.piece, abs(m.time_s - gone.time_s) < 0.06) for m in notes] == [(gone.piece, True)]


@pytest.mark.long
@pytest.mark.parametrize("style", ["busy", "straight", "slow", "sixeight"])
def test_on_kits(style: str, monkeypatch):
    """Of the strokes as they were played."""
    for seed in (55_301, 55_302):
        kit, gone = planted(seed, style, monkeypatch, drop=("OH R", "Rm L", "Rm R", "Rm mono"))
        notes = missing(kit.hits, kit.plan.tempo)
        assert [(m.piece, abs(m.time_s - gone.time_s) < 0.06) for m in notes] == [(gone.piece, True)]


class Pulses:
    """Mics in which every stroke is a pulse of its own, all strokes in all mics."""

    sample_rate_hz = RATE

    def __init__(self, hits: dict) -> None:
        rng = np.random.default_rng(3)
        self.audio = {name: np.zeros(24 * RATE, np.float32) for name in ("sn", "oh")}
        for piece, mine in hits.items():
            for hit in mine:
                shape = rng.standard_normal(4800) * np.exp(-np.arange(4800) / 900)
                for name, x in self.audio.items():
                    gain = 10 ** (hit.level_db / 20) * (1.0 if (name, piece) == ("sn", "snare") else 0.2)
                    at = round(hit.time_s * RATE)
                    x[at : at + 4800] += (gain * shape[: x.size - at]).astype(np.float32)

    def mic(self, take: str, mic_id: str):
        from arkund.core.files.audio import ArrayMic

        return ArrayMic(self.audio[mic_id])

    def length(self, take: str) -> int:
        return 24 * RATE

    def content(self, take: str, mic_id: str) -> str:
        return mic_id


class TestPropose:
    """What a note does."""

    plan = Plan(
        take="t",
        tempo=TEMPO,
        mics=(
            MicPlan(id="sn", name="Sn", piece="snare", role="top"),
            MicPlan(id="oh", name="OH", piece="kit", role="overhead"),
        ),
    )

    @pytest.mark.parametrize("kind", ["without", "weak"])
    def test_it_copies_the_hit_in_all_mics(self, kind: str):
        """From a bar like it, with what sounds there, to the sample; around it nothing changes, and then the note is gone."""
        hits = beat(**{kind: {("snare", 5, 3.0)}})
        (note,) = propose(self.plan, hits, hits, RATE)
        assert note.title == f"Bar 6: {'snare missing' if kind == 'without' else 'weak snare'} on beat 4"
        assert "with the hihat that sounds there" in note.evidence
        assert not note.first_choice
        done, recordings = change.put(self.plan, note.changes), Pulses(hits)
        (placed,), (capture,) = done.placements, done.captures
        assert (placed.at, placed.everywhere) == (round(11.5 * RATE), True)
        assert capture.at % (2 * RATE) == round(1.5 * RATE)
        for mic in done.mics:
            before, after = (source(plan, recordings, mic, 0, 24 * RATE) for plan in (self.plan, done))
            start, stop = placed.at - capture.before, placed.at + capture.length
            assert np.array_equal(after[:start], before[:start])
            assert np.array_equal(after[stop:], before[stop:])
            inside, there = slice(placed.at, stop - 2000), slice(capture.at, capture.at + stop - 2000 - placed.at)
            assert np.allclose(after[inside], recordings.audio[mic.id][there], atol=1e-6)
        assert propose(done, hits, hits, RATE) == []

    def test_where_no_hit_fits_it_says_so(self):
        """Rolls all around: nothing can be copied whole."""
        hits = beat(without={("snare", 5, 3.0)})
        rolls = [Hit("hihat", k * 0.03, -20.0, 60, False) for k in range(800)]
        (note,) = propose(self.plan, hits | {"hihat": rolls}, hits | {"hihat": rolls}, RATE) or (None,)
        assert note is None or note.changes == {}
        assert note is None or "can be copied" in note.evidence

    def test_after_an_edit_it_goes_to_its_place_in_the_recording(self):
        """Times are told as they sound, and put where they are recorded."""
        recorded = beat(without={("snare", 5, 3.0)})
        heard = {
            piece: [Hit(piece, h.time_s - 0.25, h.level_db, h.velocity, h.ghost) for h in mine]
            for piece, mine in recorded.items()
        }
        plan = self.plan.replace(tempo=Tempo(bpm=120.0, first_bar_s=-0.25))
        (note,) = propose(plan, recorded, heard, RATE)
        assert note.changes["placements"][0]["at"] == round(11.5 * RATE)
