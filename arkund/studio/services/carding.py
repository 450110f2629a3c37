"""The kit card of a session: each figure raw and now, over its busiest part, against the targets of a school."""

import dataclasses
import functools
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from arkund.core.beside import at_once
from arkund.core.card.clipping import CUTS, clipping, pieces_at, taken_db
from arkund.core.card.cost import COSTS, costs, image_change_db
from arkund.core.card.distortion import LEAST_DB, residual_db
from arkund.core.card.help import help_of
from arkund.core.card.measure import bleed_db, kit_figures, times
from arkund.core.card.own_style import targets_of
from arkund.core.card.raw import balanced_plan, raw_plan
from arkund.core.card.rows import NOT_CUT_DB, OfRows, cut_db, gain_range_db, is_steady
from arkund.core.card.sound import STRONG, Hits, Sound
from arkund.core.card.targets import FIGURES, INF, TARGETS, Figure, Range, about, off_by
from arkund.core.clean.settings import cleans
from arkund.core.errors import SettingsError
from arkund.core.files.audio import read_padded
from arkund.core.kit.pieces import is_close, is_shell, is_tom, timing_mic
from arkund.core.load.measure import pairs
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.punch.measure import average_envelope
from arkund.core.render.source import Recordings
from arkund.core.replace.low_end import low_end as low_end_of
from arkund.core.rig import places
from arkund.core.rig.hearing import audible
from arkund.core.rig.wiring import group_id
from arkund.studio.models import Move, Session
from arkund.studio.services import layering, whole
from arkund.studio.services.measuring import Measure
from arkund.studio.services.rendering import rendered, row_of
from arkund.studio.steps import STEPS

Span = tuple[int, int]
MET_DB = 0.05
NOT_CUT = "not cut"
OF_THE_SONG = ("headroom",)  # what a part of the song does not tell
# Whose rows must not swing, by role or by piece.
_SWINGS = {"overhead": "steady", "room": "steady", "hihat": "hats", "ride": "hats"}


@dataclass(frozen=True, slots=True)
class Row:
    """One figure: raw, now, and what its target is about; None where it is not known. calm : what the target is about in the calmest part; reference : in
    the kit that a style of one's own was taken from
    """

    figure: Figure
    raw: float | None
    now: float | None
    target: Range
    calm: float | None = None
    reference: float | None = None

    @property
    def value(self) -> float | None:
        """What the target is about."""
        return about(self.figure.key, {self.figure.key: self.now}, {self.figure.key: self.raw})

    @property
    def off(self) -> float:
        """By how much it misses its target."""
        return off_by(self.value, self.target)


def card(measure: Measure, school: str, span: Span | None = None) -> list[Row]:
    """Return the card of a session over a part of it, the busiest where none is given; the true peak over all of it where that is known.

    Raises SettingsError for an unknown school.
    """
    if school not in TARGETS:
        raise SettingsError(f"school: expected one of {', '.join(TARGETS)}; got {school[:40]!r}.")
    span = span or measure.busy_span()
    raw, now = figures(measure.at(raw_plan(measure.plan)), span), figures(measure, span)
    peak_db = whole.true_peak_db(measure.session, measure.plan)
    if peak_db is not None and now["headroom"] is not None:
        now = now | {"headroom": round(peak_db, 2)}  # the loudest moment need not be in the busiest part
    own = measure.plan.own_style if school == measure.plan.school else None
    targets, verse = targets_of(school, own), known_calm(measure) or {}
    reference = {each.key: each.reference for each in own.ranges} if own else {}
    return [
        Row(each, raw[each.key], now[each.key], targets[each.key], verse.get(each.key), reference.get(each.key))
        for each in FIGURES
    ]


def calm(measure: Measure) -> dict[str, float | None]:
    """Return what the targets are about in the song's calmest part, a verse for the most; nothing where no part is calmer than others."""
    span = measure.calm_span()
    if span is None:
        return {}

    def compute() -> dict:
        raw, now = figures(measure.at(raw_plan(measure.plan)), span), figures(measure, span)
        return {"figures": {key: about(key, now, raw) for key in now if key not in OF_THE_SONG}}

    return measure.kept("calm", measure.plan.to_json(), compute)["figures"]


def known_calm(measure: Measure) -> dict[str, float | None] | None:
    """Return the same where it was measured for this Plan."""
    found = measure.known("calm", measure.plan.to_json())
    return found["figures"] if found else None


def figures(measure: Measure, span: Span) -> dict[str, float | None]:
    """Return the figures of a Plan as it is heard over a part of the song, kept."""

    def compute() -> dict:
        kit = heard(measure, span)
        found, others = at_once(lambda: kit_figures(kit), lambda: bleed(measure, span) | low_end(measure))
        return {"figures": _rounded(found | others)}

    return measure.kept("kit card", [measure.plan.to_json(), list(span)], compute)["figures"]


def heard(measure: Measure, span: Span) -> Sound:
    """Return a kit as it is heard over a part of the song, with its hits."""
    kit = rendered(measure.plan, measure.recordings, span, "kit")
    return Sound(kit, heard_hits(measure, span), measure.rate)


def low_end(measure: Measure) -> dict[str, float | None]:
    """Return what the low end of all that carries the kick adds up to; None where one carries it alone."""
    return low_end_sum(*layering.heard(measure, "kick"), measure.rate)


def low_end_sum(strips: dict[str, np.ndarray], hits_s: list[float], rate: int) -> dict[str, float | None]:
    """Return the same of the kick's strips at their levels."""
    low = low_end_of(strips, hits_s, rate, "kick") if strips else None
    return {"low_end": low.gain_db if low and len(low.main_db) > 1 else None}


def clipped(plan: Plan, recordings: Recordings, span: Span, hits: Hits) -> dict[str, float | None]:
    """Return what clips and distorts kicks and back-beats on their way to the kit: in their groups and over the kit. hits : within the span, in s from its
    start
    """
    rate, at = recordings.sample_rate_hz, {piece: times(hits, piece) for piece in STRONG}
    taken, added = {piece: np.zeros(len(mine)) for piece, mine in at.items()}, [LEAST_DB]
    for name in (*(f"group:{group.id}" for group in plan.groups if group.id in STRONG), "kit"):
        tools = [tool for tool in places.named(plan, name).strip.tools if tool.on]
        row = [x.T for x in row_of(plan, recordings, name, span)] if any(t.kind in CUTS for t in tools) else []
        for piece in pieces_at(name) if row else ():
            taken[piece] = taken[piece] + taken_db(row, tools, at[piece], rate)
            for before, after, tool in zip(row, row[1:], tools, strict=False):
                left_db = residual_db(before, after, at[piece], rate) if tool.kind in CUTS else None
                added += [] if left_db is None else [left_db]
    return clipping(taken) | {"distortion": max(added)}


def of_rows(measure: Measure, span: Span) -> OfRows:
    """Return what rows of tools do over a part of the song: figures of what was lost that no level of a group or path changes."""
    plan, ranges = measure.plan, {"steady": [], "hats": []}
    rows = functools.cache(lambda name: [x.T for x in row_of(plan, measure.recordings, name, span)])
    tails, mics = [], [mic for mic in audible(plan) if not mic.is_layer]
    for mic in mics:
        if kind := _SWINGS.get(mic.role) or _SWINGS.get(mic.piece):
            ranges[kind].append(_range_db(plan, mic, rows, measure.rate))
        if is_shell(mic.piece):
            tails.append(_tail_cut_db(measure, mic, rows, span))
    most = {kind: max((db for db in found if db is not None), default=None) for kind, found in ranges.items()}
    tail_db = max((db for db in tails if db is not None), default=None)
    return OfRows(most["steady"], most["hats"], tail_db, _image_db(measure, span), bool(pairs(plan)))


def _range_db(plan: Plan, mic: MicPlan, rows: Callable[[str], list[np.ndarray]], rate: int) -> float | None:
    """Return the range of what a mic's row and its group's do over time, 0 of tools that do the same at every moment; None of silence."""
    group = group_id(mic, plan.groups)
    names = [f"mic:{mic.id}", *([f"group:{group}"] if group else [])]
    swinging = [name for name in names if not is_steady(places.named(plan, name).strip.tools) and rows(name)]
    return gain_range_db([(rows(name)[0], rows(name)[-1]) for name in swinging], rate) if swinging else 0.0


def _tail_cut_db(measure: Measure, mic: MicPlan, rows: Callable[[str], list[np.ndarray]], span: Span) -> float | None:
    """Return where a drum's tail is cut in a mic, NOT_CUT_DB where it is not cleaned; None where no hit of it rings out."""
    on = [tool for tool in mic.tools if tool.on]
    cleaners = [number for number, tool in enumerate(on) if cleans(tool)]
    row = rows(f"mic:{mic.id}") if cleaners else []
    if not row:
        return NOT_CUT_DB
    before, after = row[cleaners[0]][:, 0], row[cleaners[-1] + 1][:, 0]
    times_s = [h.time_s for h in heard_hits(measure, span).get(mic.piece, [])]
    return cut_db(before, after, measure.ringing(mic), mic.trim_db, times_s, measure.rate)


def _image_db(measure: Measure, span: Span) -> float | None:
    """Return by how much the overheads' image moved; None without a pair of them in a group."""
    left = next((left for left, _ in pairs(measure.plan) if left.role == "overhead"), None)
    group = group_id(left, measure.plan.groups) if left else ""
    if not group:
        return None
    both = (measure.at(balanced_plan(measure.plan)), measure)
    raw, now = (
        Sound(rendered(mine.plan, mine.recordings, span, f"group:{group}"), heard_hits(mine, span), measure.rate)
        for mine in both
    )
    return image_change_db(raw, now)


def close_shells(measure: Measure) -> list[MicPlan]:
    """Return the close mics of drums that are heard."""
    return [mic for mic in measure.shells() if is_close(mic.role) and not mic.mute]


def lost(measure: Measure, school: str, span: Span | None = None) -> list[Row]:
    """Return what the kit lost against the raw sum, its pairs balanced, over a part of the song, the busiest where none is given: see ``core.card.cost``."""
    span = span or measure.busy_span()

    def compute() -> dict:
        raw, now = heard(measure.at(balanced_plan(measure.plan)), span), heard(measure, span)
        dense = {"plr": figures(measure, span)["density"]}
        clipping_now = clipped(measure.plan, measure.recordings, span, now.hits)
        rows = of_rows(measure, span)
        none = rows.of_no_loss.among(costs(raw, raw)) | {
            "plr": kit_figures(raw)["density"],
            "clip_usual": 0.0,
            "clip_loudest": 0.0,
            "distortion": LEAST_DB,
        }
        return {"none": _rounded(none), "now": _rounded(rows.among(costs(raw, now)) | dense | clipping_now)}

    found = measure.kept("kit costs", [measure.plan.to_json(), list(span)], compute)
    none, now = found["none"], found["now"]
    return [Row(cost.figure, none[cost.figure.key], now[cost.figure.key], cost.ranges[school]) for cost in COSTS]


def _rounded(found: dict[str, float | None]) -> dict[str, float | None]:
    return {key: None if v is None else round(float(v), 2) for key, v in found.items()}


def bleed(measure: Measure, span: Span) -> dict[str, float | None]:
    """Return the figures of what close mics hear of others."""
    shells, hits = close_shells(measure), heard_hits(measure, span)
    strips = {mic.id: rendered(measure.plan, measure.recordings, span, f"strip:{mic.id}") for mic in shells}
    levels = {mic.id: bleed_db(strips[mic.id], mic.piece, hits, measure.rate) for mic in shells}
    toms, others = (
        [levels[m.id] for m in shells if is_tom(m.piece) == wanted and levels[m.id] is not None]
        for wanted in (True, False)
    )
    return {"bleed_toms": _mean(toms), "bleed": _mean(others)}


def average_hits(measure: Measure, span: Span) -> dict[str, dict]:
    """Return the average kick and back-beat of the whole kit, raw and now, as envelopes by piece."""
    both = {"raw": measure.at(raw_plan(measure.plan)), "now": measure}

    def compute() -> dict:
        out: dict[str, dict] = {}
        for name, mine in both.items():
            kit = rendered(mine.plan, mine.recordings, span, "kit").mean(axis=1)
            read = functools.partial(read_padded, kit)
            for piece in ("kick", "snare"):
                hits = heard_hits(mine, span).get(piece, [])
                inside = [h for h in hits if 0.1 < h.time_s < (span[1] - span[0]) / mine.rate - 0.3]
                if inside:
                    out.setdefault(piece, {})[name] = dataclasses.asdict(average_envelope(read, inside, mine.rate))
        return out

    return measure.kept("kit hits", [measure.plan.to_json(), list(span)], compute)


def _mean(levels: list[float]) -> float | None:
    return float(np.mean(levels)) if levels else None


def heard_hits(measure: Measure, span: Span) -> dict[str, list]:
    """Return the hits that sound within a part of the song, in s from its start: each drum's where it is lined up."""
    out, length_s = {}, (span[1] - span[0]) / measure.rate
    for piece, mine in measure.heard_hits.items():
        mic: MicPlan | None = timing_mic(measure.plan.mics, piece)
        later_s = (mic.line_up.delay_ms / 1000.0 if mic else 0.0) - span[0] / measure.rate
        inside = [(h, at) for h in mine if 0.0 <= (at := h.time_s + later_s) < length_s]
        out[piece] = [dataclasses.replace(h, time_s=at) for h, at in inside]
    return out


def told(rows: list[Row]) -> list[dict]:
    """Return a card as plain data."""
    return [
        {
            "key": row.figure.key,
            "words": row.figure.words,
            "unit": row.figure.unit,
            "against": row.figure.against,
            "how": row.figure.how,
            "raw": row.raw,
            "now": row.now,
            "value": None if row.value is None else round(row.value, 2),
            "calm": None if row.calm is None else round(row.calm, 2),
            "reference": None if row.reference is None else round(row.reference, 2),
            "target": [None if abs(edge) == INF else edge for edge in row.target],
            "off": round(row.off, 2),
            "said": NOT_CUT if row.figure.key == "tail_cut" and row.value == NOT_CUT_DB else "",
            "help": _help(row),
        }
        for row in rows
    ]


def _help(row: Row) -> dict | None:
    found = help_of(row.figure.key, row.value, row.target) if row.off > MET_DB else None
    return {"words": found[0], "step": found[1]} if found else None


def done(session: Session) -> list[dict]:
    """Return what stands in the logbook, step by step in the order of the work: how many Moves, and each in words with what was measured."""
    out = []
    for step in STEPS.values():
        mine = list(session.moves.filter(state=Move.DONE, step=step.key).order_by("number"))
        if mine:
            moves = [{"title": move.title, "measured": move.measured} for move in mine]
            out.append({"step": step.key, "name": step.name, "count": len(mine), "moves": moves})
    return out
