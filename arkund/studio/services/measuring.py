"""What is measured for each step, kept by the hash of all it depends on."""

import dataclasses
import functools
import hashlib
import json
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from itertools import pairwise

import numpy as np

from arkund.core.beside import WORKERS
from arkund.core.blend.measure import reduction, threshold_for
from arkund.core.blend.propose import KIT_REDUCTION_DB, kit_start
from arkund.core.clean.by_band import Spectra
from arkund.core.clean.measure import Separation, opened, separation
from arkund.core.clean.outcome import Outcome, outcome, peak_changes_db
from arkund.core.clean.propose import gate_for, regions_for, start_settings
from arkund.core.clean.ring import Ringing, ringing
from arkund.core.clean.settings import cleans, followed_db
from arkund.core.dsp.loudness import measure as loudness_of
from arkund.core.dsp.null import null_db
from arkund.core.files.audio import read_padded
from arkund.core.files.library import Library
from arkund.core.hits import spans
from arkund.core.hits.resolve import against_usual
from arkund.core.kit.pieces import is_close, is_shell
from arkund.core.level.measure import MicLevel, SectionLevel, mic_level, section_levels
from arkund.core.lineup import measure as lineup
from arkund.core.load import measure as load
from arkund.core.load.couples import Later, later
from arkund.core.load.sound import average_hit, features_of, likely
from arkund.core.plan.plan import SHELF, LineUp, MicPlan, Plan, Tempo
from arkund.core.punch.measure import (
    BANDS,
    TAKEN_FROM_MS,
    Envelope,
    average_envelope,
    heard_clear,
    hits_before,
    in_band,
)
from arkund.core.render.graph import KIT, build
from arkund.core.render.keys import Keys, in_song
from arkund.core.render.keys import content as key_content
from arkund.core.render.source import BACKING, Sources, edits_key, raw, source_settings
from arkund.core.render.whole import recorded_peak_db
from arkund.core.rig import places, rows
from arkund.core.rig.hearing import audible
from arkund.core.rig.measure import Effect, effect
from arkund.core.rig.wiring import group_id
from arkund.core.takes.process import assembled, sum_of_mics
from arkund.core.timing.bars import bars_of
from arkund.core.timing.meter import SURE, MeterGuess, estimate_meter
from arkund.core.timing.process import moved_sample
from arkund.core.timing.tempo import MapGuess, estimate_map
from arkund.core.tone.measure import ToneMeasure
from arkund.core.tone.measure import measure as tone_measure
from arkund.core.tone.moving import threshold_db
from arkund.core.tools.compressor import Compressor
from arkund.core.tools.gate import Gate
from arkund.core.tools.regions import Regions
from arkund.core.tools.tone import Band
from arkund.core.units import gain_to_db
from arkund.studio.models import Measured, Session
from arkund.studio.services.recordings import hits_depend, hits_of, recordings_of
from arkund.studio.services.rendering import rendered, row_of

VERSION = 28  # of the measurements: raised when one of them is computed in another way
FOUR = (4, 4)
LONE_S = (0.2, 0.13)  # nobody else is struck so long before a hit and after it


def _audio_key(library: Library, plan: Plan) -> str:
    """Return a hash of the recordings that a session's measurements depend on: those of its takes, and the hits from files that its Plan has."""
    takes = sorted([take, mic, digest] for (take, mic), digest in library.files.items() if take not in (SHELF, BACKING))
    shelf = [[part.key, library.content(SHELF, part.key)] for capture in plan.captures for part in capture.parts]
    return hashlib.sha256(json.dumps([library.sample_rate_hz, takes, shelf]).encode()).hexdigest()


class Measure:
    """The measurements of one session at one Plan; hits and recordings are read once. What was measured of the same recordings in another session is known."""

    def __init__(self, session: Session, plan: Plan | None = None) -> None:
        self.session = session
        self.plan = plan or session.plan
        library = recordings_of(session)
        self._audio = _audio_key(library, self.plan)
        self.recordings = assembled(self.plan, library)
        self.sources = Sources(self.plan, self.recordings)
        self.rate = session.sample_rate_hz
        self._performance = [self.plan.take, *(join.to_json() for join in self.plan.joins)]
        self._hits: dict | None = None

    def at(self, plan: Plan) -> "Measure":
        """Return the measurements at another Plan of the session; hits that are the same for both are resolved once."""
        other = Measure(self.session, plan)
        if hits_depend(plan) == hits_depend(self.plan):
            other._hits, other._hits_key = self.hits, self._hits_key
        return other

    @property
    def hits(self) -> dict:
        """Return the working take's hits in the time of the recording."""
        if self._hits is None:
            self._hits = hits_of(self.session, self.plan)
        return self._hits

    @property
    def recorded_hits(self) -> dict:
        """Return the hits that are in the recording: what was put in their place, or where one was missing, is not."""
        return {piece: [h for h in mine if not h.placed] for piece, mine in self.hits.items()}

    @functools.cached_property
    def _hits_key(self) -> str:
        rows = [(p, h.time_s, h.level_db) for p, hs in sorted(self.hits.items()) for h in hs]
        return hashlib.sha256(json.dumps(rows).encode()).hexdigest()

    @property
    def heard_hits(self) -> dict:
        """Return the hits where they sound after the edits and, by mic, before its own delay."""
        if not (self.plan.cuts or self.plan.lone_cuts):
            return self.hits
        return {piece: self._moved(piece, mine) for piece, mine in self.hits.items()}

    def _moved(self, piece: str, hits: list) -> list:
        alone = [cut for cut in self.plan.lone_cuts if cut.piece == piece]
        ats = [moved_sample(self.plan.cuts, moved_sample(alone, round(h.time_s * self.rate))) for h in hits]
        return [dataclasses.replace(h, time_s=at / self.rate) for h, at in zip(hits, ats, strict=True)]

    def sum_of_mics(self, start: int, stop: int) -> np.ndarray:
        """Return the sum of all mics as recorded, float32 [shape=(samples,)]."""
        return sum_of_mics(self.recordings, self.plan.take, [mic.id for mic in self.plan.mics], start, stop)

    def known(self, kind: str, depends: object) -> dict | None:
        """Return a measurement where it was made already, as :meth:`kept` names it."""
        found = Measured.objects.filter(pk=self._key(kind, depends)).first()
        return None if found is None else found.data

    def kept(self, kind: str, depends: object, compute: Callable[[], dict]) -> dict:
        """Return a measurement, computed where it was not yet; depends : plain data of all it depends on but for the performance and its hits."""
        key = self._key(kind, depends)
        found = Measured.objects.filter(pk=key).first()
        return self._keep(key, compute()) if found is None else found.data

    def _keep(self, key: str, data: dict) -> dict:
        Measured.objects.get_or_create(pk=key, defaults={"session": self.session, "data": data})
        return data

    def kept_each(self, kind: str, asked: Sequence[tuple[object, Callable[[], dict]]]) -> list[dict]:
        """Return several measurements as :meth:`kept` does, from (depends, compute) of each; those that are missing are made side by side, and do not ask the
        database.
        """
        keys = [self._key(kind, depends) for depends, _ in asked]
        found = {row.pk: row.data for row in Measured.objects.filter(pk__in=keys)}
        missing = {key: compute for key, (_, compute) in zip(keys, asked, strict=True) if key not in found}
        with ThreadPoolExecutor(WORKERS) as pool:
            made = list(pool.map(lambda compute: compute(), missing.values()))
        found |= {key: self._keep(key, data) for key, data in zip(missing, made, strict=True)}
        return [found[key] for key in keys]

    def _key(self, kind: str, depends: object) -> str:
        content = [VERSION, kind, self._audio, self._performance, depends, self._hits_key]
        return hashlib.sha256(json.dumps(content, sort_keys=True).encode()).hexdigest()

    def _source_of(self, mic: MicPlan) -> Callable:
        return functools.partial(self.sources.read, mic)

    def source_depends(self, mic: MicPlan) -> list:
        """Return all that a mic's audio before its tools depends on: what the render's own key of it is made of."""
        return [mic.id, mic.piece, mic.role, source_settings(self.plan, self.recordings, mic, edits_key(self.plan))]

    def levels(self) -> dict[str, MicLevel]:
        """Return the peaks of each mic at its own hits, before any trim."""
        readers = {mic.id: self.recordings.mic(self.plan.take, mic.id) for mic in self.plan.mics}
        mics = [mic for mic in self.plan.mics if readers[mic.id] is not None]

        def compute(mic: MicPlan) -> dict:
            close = is_close(mic.role) and mic.piece in self.hits
            hits = self.recorded_hits
            own = hits.get(mic.piece, []) if close else hits.get("snare", []) + hits.get("kick", [])
            times = [round(h.time_s, 5) for h in own if not h.ghost]
            return dataclasses.asdict(mic_level(readers[mic.id], mic.id, times, close, self.rate))

        asked = [([mic.id, mic.piece, mic.role], functools.partial(compute, mic)) for mic in mics]
        found = zip(mics, self.kept_each("level", asked), strict=True)
        return {
            mic.id: MicLevel(**{k: tuple(v) if isinstance(v, list) else v for k, v in data.items()})
            for mic, data in found
        }

    def section_levels(self) -> dict[str, list[SectionLevel]]:
        """Return how loud each piece is played in each section."""
        bars = bars_of(self.plan.tempo)
        return {piece: section_levels(mine, self.plan.sections, bars) for piece, mine in self.hits.items()}

    def kit_peak_db(self) -> float:
        """Return the peak of the sum of all audible mics as recorded, trimmed, lined up, at their levels and places, before any processing."""

        def compute() -> dict:
            return {"peak_db": recorded_peak_db(self.plan, self.recordings)}

        depends = [[self.source_depends(m), m.level_db, m.pan, m.group] for m in audible(self.plan)]
        depends += [[group.id, group.level_db, group.pan] for group in self.plan.groups]
        return self.kept("kit_peak", depends, compute)["peak_db"]

    def meter_guess(self) -> MeterGuess | None:
        """Return the meter that explains the hits, None with too few."""

        def compute() -> dict:
            found = estimate_meter(self.hits)
            return {} if found is None else dataclasses.asdict(found)

        data = self.kept("meter", None, compute)
        return MeterGuess(**data) if data else None

    @property
    def played_meter(self) -> tuple[int, int]:
        """Return the meter in which a tempo is sought: the Plan's where it is not the usual one, else as the strokes tell it where they are sure."""
        tempo, told = self.plan.tempo, self.meter_guess()
        mine = tempo.beats_per_bar, tempo.beat_unit
        return (told.beats_per_bar, told.beat_unit) if mine == FOUR and told and told.share >= SURE else mine

    def tempo_guess(self, meter: tuple[int, int] | None = None) -> MapGuess | None:
        """Return the tempo map that explains the hits, None with too few; in the played meter unless another is given."""
        beats, unit = meter or self.played_meter
        told = self.meter_guess()
        # In four the back-beat tells which of a tempo and its double is meant; elsewhere the meter's own habits do.
        near_bpm = told.bpm if told and (beats, unit) == (told.beats_per_bar, told.beat_unit) != FOUR else None

        def compute() -> dict:
            found = estimate_map(self.hits, beats, unit, near_bpm)
            if found is None:
                return {}
            other = None if found.other is None else found.other.to_json()
            return dataclasses.asdict(found) | {"tempo": found.tempo.to_json(), "other": other}

        data = self.kept("tempo", [beats, unit], compute)
        if not data:
            return None
        other = None if data["other"] is None else Tempo.from_json(data["other"])
        return MapGuess(**data | {"tempo": Tempo.from_json(data["tempo"]), "other": other})

    def heard(self) -> list[load.Heard]:
        """Return how every mic hears every piece."""

        def compute() -> dict:
            return {
                "rows": [dataclasses.asdict(row) for row in load.heard(self.plan, self.recordings, self.recorded_hits)]
            }

        return [load.Heard(**row) for row in self.kept("heard", [m.id for m in self.plan.mics], compute)["rows"]]

    def likelihoods(self) -> dict[str, dict[str, float]]:
        """Return by mic how likely its sound is for each kind of mic, whatever its name."""
        mics = [mic.id for mic in self.plan.mics]

        def compute() -> dict:
            found = features_of([self.recordings.mic(self.plan.take, mic) for mic in mics], self.rate)
            return {mic: likely_of for mic, likely_of in zip(mics, likely(found), strict=True) if likely_of}

        return self.kept("sounds", mics, compute)

    def average_hit(self, mic: str) -> np.ndarray | None:
        """Return what a mic hears at its loudest moments on the average; None for silence and for what is no mic."""
        reader = self.recordings.mic(self.plan.take, mic)
        return average_hit(reader.read, reader.length, self.rate) if reader else None

    def couples(self) -> list[Later]:
        """Return how much later one mic of a couple hears what tells which is which: see ``load.couples``."""

        def compute() -> dict:
            return {"rows": [dataclasses.asdict(row) for row in later(self.plan, self.recordings, self.recorded_hits)]}

        depends = [[m.id, m.piece, m.role, m.side] for m in self.plan.mics]
        return [Later(**row) for row in self.kept("couples", depends, compute)["rows"]]

    def alike(self) -> list[load.Alike]:
        """Return the pairs of mics that carry the same sound."""
        span = self.busy_span()

        def compute() -> dict:
            return {"rows": [dataclasses.asdict(row) for row in load.alike(self.plan, self.recordings, span)]}

        return [load.Alike(**row) for row in self.kept("alike", [m.id for m in self.plan.mics], compute)["rows"]]

    def pairs(self) -> list[load.Pair]:
        """Return the left and right mics of one role, measured against each other."""
        mine = load.pairs(self.plan)

        def compute() -> dict:
            return {
                "rows": [
                    dataclasses.asdict(load.pair(self.plan, self.recordings, self.recorded_hits, a, b)) for a, b in mine
                ]
            }

        return [load.Pair(**row) for row in self.kept("pairs", [[a.id, b.id] for a, b in mine], compute)["rows"]]

    def arrivals(self) -> list[lineup.Arrival]:
        """Return arrival and polarity of each mic against its reference."""

        def compute() -> dict:
            return {
                "rows": [dataclasses.asdict(a) for a in lineup.measure(self.plan, self.recordings, self.recorded_hits)]
            }

        depends = [[m.id, m.piece, m.role] for m in self.plan.mics]
        return [lineup.Arrival(**row) for row in self.kept("lineup", depends, compute)["rows"]]

    def overheads_ms(self) -> dict[str, float]:
        """Return how late the overheads hear each piece."""
        depends = [[m.id, m.piece, m.role] for m in self.plan.mics]
        return self.kept(
            "overheads", depends, lambda: lineup.overheads_ms(self.plan, self.recordings, self.recorded_hits)
        )

    def drifts(self) -> list[lineup.Drift]:
        """Return how each mic's delay grows over the song."""

        def compute() -> dict:
            rows = lineup.drifts(self.plan, self.recordings, self.recorded_hits, self.arrivals())
            return {"rows": [dataclasses.asdict(row) for row in rows]}

        depends = [[m.id, m.piece, m.role] for m in self.plan.mics]
        return [lineup.Drift(**row) for row in self.kept("drift", depends, compute)["rows"]]

    def null(self, a: str, b: str) -> tuple[float, float]:
        """Return what is left of output ``b`` over the busiest part when ``a`` is taken away, in dB, and the gain in dB (see ``null_db``)."""
        span = self.busy_span()
        left, gain = null_db(*(rendered(self.plan, self.recordings, span, name) for name in (a, b)))
        return left, float(gain_to_db(gain))

    def separations(self, mics: Sequence[MicPlan]) -> list[Separation]:
        """Return of each mic own hits against others' hits in it, through its gate's key filter."""
        gates = [mine if (mine := mic.first("gate")) and mine.on else start_settings(mic) for mic in mics]
        hits = self.heard_hits

        def compute(mic: MicPlan, gate: Gate) -> dict:
            return dataclasses.asdict(separation(self._source_of(mic), mic, hits, gate, self.rate))

        asked = [
            (
                [self.source_depends(mic), gate.key.low_hz, gate.key.high_hz, gate.key.tilt_db],
                functools.partial(compute, mic, gate),
            )
            for mic, gate in zip(mics, gates, strict=True)
        ]
        return [_separation(data) for data in self.kept_each("clean", asked)]

    def separation(self, mic: MicPlan) -> Separation:
        """Return the same of one mic."""
        return self.separations([mic])[0]

    def ringings(self, mics: Sequence[MicPlan]) -> list[Ringing]:
        """Return how each mic's drum rings in it, and until when each of its hits is heard, in the time of the recording."""
        length = self.recordings.length(self.plan.take)

        def compute(mic: MicPlan) -> dict:
            times = [h.time_s for h in self.hits.get(mic.piece, [])]
            return dataclasses.asdict(ringing(self._with_placed(mic), length, times, self.rate, self.followed_db))

        placed = [each.to_json() for each in self.plan.placements]
        asked = [([mic.id, mic.piece, placed, self.followed_db], functools.partial(compute, mic)) for mic in mics]
        found = self.kept_each("ringing", asked)
        return [Ringing(**{k: tuple(v) if isinstance(v, list) else v for k, v in data.items()}) for data in found]

    @property
    def followed_db(self) -> float:
        """How far a drum is followed as it rings out."""
        return followed_db(self.plan.cleaning.look, self.plan.school)

    def _with_placed(self, mic: MicPlan) -> Callable[[int, int], np.ndarray]:
        """Return what reads a mic in the time of its recording, with the hits that stand in the place of others."""
        if not self.plan.placements:
            return raw(self.plan, self.recordings, mic.id)
        plain = Sources(self.plan.replace(cuts=(), lone_cuts=(), scenes=()), self.recordings)
        as_recorded = mic.replace(trim_db=0.0, line_up=LineUp(), clock_ppm=0.0, repair=False)
        return lambda start, stop: plain.read(as_recorded, start, stop)

    def ringing(self, mic: MicPlan) -> Ringing:
        """Return the same of one mic."""
        return self.ringings([mic])[0]

    def cleaners(self, mic: MicPlan) -> tuple[Gate, Regions]:
        """Return a gate and a cut by hits for a mic, each as it would be set."""
        look, times = self.plan.cleaning.look, [h.time_s for h in self.hits.get(mic.piece, [])]
        ringing = self.ringing(mic)
        gate = gate_for(start_settings(mic), self.separation(mic), ringing, look, mic, self.followed_db)
        return gate, regions_for(mic, ringing, times, look, self.rate, self.followed_db)

    def followed(self, mic: MicPlan, kind: str) -> dict[str, tuple]:
        """Return what a tool that is drawn over the song follows in a mic: the settings by which it knows the hits."""
        if kind == "regions":
            return {"spans": self.cleaners(mic)[1].spans}
        return {"strikes": against_usual(self.hits.get(mic.piece, []), self.rate)}

    def opened(self, mic: MicPlan) -> list[list[int]]:
        """Return where a mic's gate is open, as samples of the song: [first, the one after the last] by stretch; nothing where it is off."""
        mine = mic.first("gate")
        if mine is None or not mine.on:
            return []

        def compute() -> dict:
            audio = self.gate_hears(mic, mine, 0, self.recordings.length(self.plan.take))
            return {"spans": opened(audio, mine, self.rate)}

        heard = key_content(self.plan, self.recordings, mine.key.of) if _listens_elsewhere(mine) else []
        return self.kept("opened", [self.source_depends(mic), mine.to_json(), heard], compute)["spans"]

    def gate_hears(self, mic: MicPlan, gate: Gate, start: int, stop: int) -> np.ndarray:
        """Return what a mic's gate listens to over a span, before its key's filters, float32 [shape=(samples,)]: itself, or its key (of a group: itself)."""
        if _listens_elsewhere(gate):
            return Keys(self.plan, self.sources, self.rate).read(gate.key, start, stop)
        return self.sources.read(mic, start, stop)

    def regions_s(self, mic: MicPlan) -> list[list[float]]:
        """Return where a mic's regions lie in the song, (begin, end) in seconds."""
        tool = mic.first("regions")
        if tool is None or not tool.spans:
            return []
        return np.round(in_song(self.plan, mic, tool.spans, self.rate) / self.rate, 6).tolist()

    def spectra(self, mic: MicPlan, other: str = "") -> Spectra:
        """Return a mic's levels by frequency during its own hits and during others': of all of them, or of one drum's that are heard alone."""
        own = self.tone(mic)
        others = own.others_db
        if other:
            every = np.sort([h.time_s for piece, mine in self.heard_hits.items() for h in mine if piece != other])
            theirs = self.heard_hits.get(other, [])
            apart = [h for h in theirs if not np.any((every > h.time_s - LONE_S[0]) & (every < h.time_s + LONE_S[1]))]
            alone = apart or theirs
            hits = {mic.piece: self.heard_hits.get(mic.piece, []), other: alone}
            read = functools.partial(self.sources.read, mic)
            found = tone_measure(read, self.recordings.length(self.plan.take), mic, hits, self.rate)
            others = found.others_db
        return Spectra(own.axis_hz, own.own_db, others)

    def own_change(self, mic: MicPlan, after: "Measure") -> float:
        """Return by how much the peaks of a mic's own hits in the busiest part change with another Plan, in dB: the median."""
        hits = self.heard_hits.get(mic.piece, [])
        span = self.busy_span(hits)
        inside = [
            dataclasses.replace(h, time_s=h.time_s - span[0] / self.rate)
            for h in hits
            if span[0] < h.time_s * self.rate < span[1]
        ]
        before, now = (rendered(m.plan, m.recordings, span, f"strip:{mic.id}") for m in (self, after))
        return float(np.median(peak_changes_db(before, now, inside, self.rate))) if inside else 0.0

    def cleaned(self, mic: MicPlan) -> Outcome | None:
        """Return what a mic's gate and regions do to own and others' hits over the whole song; None where none is on."""
        tools = tuple(filter(cleans, mic.tools))
        if not tools:
            return None

        def compute() -> dict:
            span = (0, self.recordings.length(self.plan.take))
            before, after = (self._processed(mic.replace(tools=row), span)(*span) for row in ((), tools))
            later_s = mic.line_up.delay_ms / 1000.0
            heard = {
                piece: [dataclasses.replace(h, time_s=h.time_s + later_s) for h in mine]
                for piece, mine in self.heard_hits.items()
            }
            return dataclasses.asdict(outcome(before, after, heard.pop(mic.piece, []), heard, self.rate))

        depends = [self.source_depends(mic), [tool.to_json() for tool in tools]]
        return Outcome(**self.kept("cleaned", depends, compute))

    def tone(self, mic: MicPlan) -> ToneMeasure:
        """Return a mic's spectra during own hits, between and during others' hits."""
        return self.tones([mic])[0]

    def tones(self, mics: Sequence[MicPlan]) -> list[ToneMeasure]:
        """Return the same of several mics."""
        length, hits = self.recordings.length(self.plan.take), self.heard_hits

        def compute(mic: MicPlan) -> dict:
            return dataclasses.asdict(tone_measure(self._source_of(mic), length, mic, hits, self.rate))

        asked = [(self.source_depends(mic), functools.partial(compute, mic)) for mic in mics]
        return [ToneMeasure.from_plain(data) for data in self.kept_each("tone", asked)]

    def envelopes(self, mic: MicPlan) -> dict[str, tuple[Envelope, Envelope]]:
        """Return the average hit's envelope before and after the mic's processing: of all of it (under ""), and by band."""
        hits = self.heard_hits.get(mic.piece) or self.heard_hits.get("snare", [])

        def compute() -> dict:
            start, stop = self.busy_span(hits)
            inside = [h for h in hits if start + self.rate // 10 < h.time_s * self.rate < stop - self.rate // 2]
            inside = heard_clear(inside, self.heard_hits, mic.piece)
            moved = [dataclasses.replace(h, time_s=h.time_s - start / self.rate) for h in inside]
            audio = [reader(start, stop) for reader in (self._source_of(mic), self._processed(mic, (start, stop)))]
            out = {}
            for name, *edges in (("", 0.0, 0.0), *BANDS):
                rows = [in_band(x, *edges, self.rate) for x in audio] if name else audio
                both = [average_envelope(functools.partial(read_padded, x), moved, self.rate) for x in rows]
                out[name] = [dataclasses.asdict(each) for each in both]
            return out

        data = self.kept("punch", [self.source_depends(mic), mic.to_json()], compute)
        return {
            name: tuple(Envelope(tuple(e["time_ms"]), tuple(e["level_db"])) for e in both)
            for name, both in data.items()
        }

    def threshold_of_band(self, mic: MicPlan, tool_id: str, band: Band) -> float | None:
        """Return the threshold of an equaliser's band at which the usual hit moves it all the way, None without hits."""
        row = mic.tools[: rows.place_of(mic.tools, tool_id)]
        hits = self.heard_hits.get(mic.piece, [])
        start, stop = self.busy_span(hits)
        inside = [h for h in hits if start + self.rate // 5 < h.time_s * self.rate < stop - 0.2 * self.rate]
        heard = hits_before(self._processed(mic.replace(tools=row), (start, stop)), inside, 0.2, self.rate)
        return threshold_db(band, heard, round(-TAKEN_FROM_MS * self.rate / 1000), self.rate)

    def _processed(self, mic: MicPlan, span: tuple[int, int]) -> Callable:
        """Return a reader of a mic, processed as it says, over a part of the song."""
        start, stop = span
        plan = self.plan.replace(mics=tuple(mic if each.id == mic.id else each for each in self.plan.mics))
        audio = rendered(plan, self.recordings, (start, stop), f"strip:{mic.id}")

        def read(a: int, b: int):
            return read_padded(audio, a - start, b - start)

        return read

    def busy_span(self, hits: list | None = None) -> tuple[int, int]:
        """Return the part of the song that holds most strong hits, of all or of those given."""
        rows = hits if hits is not None else [h for hs in self.heard_hits.values() for h in hs]
        strong_s = [h.time_s for h in rows if not h.ghost]
        return spans.busiest(strong_s, self.recordings.length(self.plan.take), self.rate)

    def calm_span(self) -> tuple[int, int] | None:
        """Return the part apart from the busiest that holds fewest strong hits while it is still played, a verse for the most; None where there is none."""
        strong_s = [h.time_s for hs in self.heard_hits.values() for h in hs if not h.ghost]
        return spans.calmest(strong_s, self.recordings.length(self.plan.take), self.rate)

    def kit(self) -> dict:
        """Return peak, true peak and loudness of mix and kit over the busiest part, and what the kit's compressor takes of what comes into it."""
        span, mine = self.busy_span(), self.plan.kit.first("compressor")
        start = kit_start(self.plan.kit)

        def compute() -> dict:
            mix = rendered(self.plan, self.recordings, span, "mix")
            kit = rendered(self.plan, self.recordings, span, "kit")
            heard = self._into_kits(start, span, mix)
            return {
                "span": list(span),
                "mix": dataclasses.asdict(loudness_of(mix, self.rate)),
                "kit": dataclasses.asdict(loudness_of(kit, self.rate)),
                "reduction": dataclasses.asdict(reduction(heard, start if mine is None else mine, self.rate)),
                "kit_threshold_db": threshold_for(heard, start, KIT_REDUCTION_DB, self.rate),
            }

        return self.kept("kit", [self.plan.to_json(), list(span)], compute)

    def _into_kits(self, compressor: Compressor, span: tuple[int, int], mix: np.ndarray) -> np.ndarray:
        """Return what comes into the kit's compressor, or would where it usually stands, float32 [shape=(samples, 2)]; scenes are left out where a tool stands
        before it.
        """
        plan = self.plan.replace(scenes=())
        row = rows.with_own_id(plan.kit.tools, compressor)
        before = {tool.id for tool in row[: rows.place_of(row, compressor.id)]}
        stage = sum(tool.id in before for tool in build(plan, self.recordings).strips[KIT].tools)
        heard = row_of(plan, self.recordings, KIT, span) if stage else ()
        return heard[stage].T if stage and heard else mix

    def effects(self, name: str) -> dict[str, Effect]:
        """Return what each tool of a strip that is on does, by its id, over the busiest part; nothing for a strip that is not heard. Scenes are left out."""
        strip, plan = places.named(self.plan, name), self.plan.replace(scenes=())
        rig = build(plan, self.recordings).strips[strip.name]
        if not rig.tools:
            return {}
        hits = self.hits_of_strip(strip)
        span = self.busy_span(hits)

        def compute() -> dict:
            at = [round(h.time_s * self.rate) - span[0] for h in hits if not h.ghost]
            rows = [row.T for row in row_of(plan, self.recordings, strip.name, span)]
            found = [effect(*pair, at, self.rate) for pair in pairwise(rows)]
            return {tool.id: dataclasses.asdict(each) for tool, each in zip(rig.tools, found, strict=False)}

        ids = [tool.id for tool in rig.tools]
        data = self.kept("effects", [name, rig.keys[-1], ids, list(span)], compute)
        return {tool: Effect(**found) for tool, found in data.items()}

    def hits_of_strip(self, strip: places.Named) -> list:
        """Return the hits by which a strip is judged, in the time of the recording."""
        return [h for piece in self.pieces_of_strip(strip) for h in self.heard_hits.get(piece, [])]

    def pieces_of_strip(self, strip: places.Named) -> list[str]:
        """Return whose hits a strip is judged by: its piece's, its members' pieces', or those of kick and snare."""
        if strip.sort == "mic":
            pieces = [strip.strip.piece]
        elif strip.sort == "group":
            pieces = sorted({mic.piece for mic in self.plan.mics if group_id(mic, self.plan.groups) == strip.strip.id})
        else:
            pieces = []
        return [piece for piece in pieces if self.heard_hits.get(piece)] or ["kick", "snare"]

    def shells(self) -> list[MicPlan]:
        """Return the mics of kick, snare and toms."""
        return [m for m in self.plan.mics if not m.is_layer and is_shell(m.piece)]


def _listens_elsewhere(gate: Gate) -> bool:
    """Say whether a gate's key is heard without rendering; of a group it is not, and the gate is shown as hearing its own mic."""
    return bool(gate.key.of) and not gate.key.of.startswith("group:")


def _separation(data: dict) -> Separation:
    others_db, others_s = ({p: tuple(v) for p, v in data[k].items()} for k in ("others_db", "others_s"))
    return Separation(data["mic"], tuple(data["own_db"]), others_db, tuple(data["own_s"]), others_s)
