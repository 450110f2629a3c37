"""What each step's page shows: plain data for its chart, built from measurements."""

import dataclasses
from pathlib import Path

import numpy as np

from arkund.core.blend.propose import KIT_PEAK_DB
from arkund.core.clean.propose import way_of
from arkund.core.clean.settings import LOOKS
from arkund.core.hits.resolve import usual_level_db
from arkund.core.kit.pieces import LAYER, PIECES, ROLES, has_low_end, is_close, is_shell, timing_mic
from arkund.core.level.settings import SCHOOLS as LEVEL_SCHOOLS
from arkund.core.load.propose import loudest_piece
from arkund.core.plan.plan import Capture, Plan
from arkund.core.plan.scenes import OF_A_LAYER
from arkund.core.punch.measure import attack_and_body_db
from arkund.core.render.source import source
from arkund.core.replace.layers import SPLIT_HZ, USUAL_SPLIT_HZ
from arkund.core.replace.made import SORTS
from arkund.core.replace.notes import NOTES
from arkund.core.rig import places, usual
from arkund.core.rig.strips import OFF_DB
from arkund.core.rig.wiring import group_id
from arkund.core.timing.bars import beat_s
from arkund.core.tone.zones import zones_of
from arkund.core.tools import gate as gates
from arkund.core.tools.gate import Gate
from arkund.core.tools.tone import Tone, curve_db
from arkund.core.units import db_to_gain, gain_to_db
from arkund.studio.models import MicRecording
from arkund.studio.pages.charts_in_time import takes, timing
from arkund.studio.pages.lineup import lineup
from arkund.studio.pages.rows import row_of, strips_of
from arkund.studio.services import (
    backing,
    blending,
    carding,
    cleaning,
    dialling,
    layering,
    pictures,
    solving,
    toning,
    whole,
)
from arkund.studio.services.measuring import Measure
from arkund.studio.services.printing import ACCOUNT, expected_lowering_db, lowered_words
from arkund.studio.services.recordings import recordings_of

LAYERS_SHOWN = ("tone", "punch", "blend", "print", "logbook")
GATE_VIEW_S = (0.05, 0.6)
QUIETEST_DB = -40.0  # a strip is drawn no larger than for such a hit


def mic_of(measure: Measure, mic_id: str | None, prefer: tuple[str, ...] = ("snare", "kick")):
    """Return the asked mic, or the timing mic of a usual piece."""
    if mic_id:
        return measure.plan.mic(mic_id)
    for piece in prefer:
        found = timing_mic(measure.plan.mics, piece)
        if found is not None:
            return found
    return measure.plan.mics[0]


def load(m: Measure, mic_id: str | None) -> dict:
    """Waveforms over the song are fetched apart; here names, roles, hits and sections."""
    rows = {r.mic: r for r in MicRecording.objects.filter(take__session=m.session, take__key=m.plan.take)}
    contents = {mic.id: m.recordings.content(m.plan.take, mic.id) for mic in m.plan.mics}
    return {
        "length_s": m.recordings.length(m.plan.take) / m.rate,
        "mics": [
            {
                "id": mic.id,
                "name": mic.name,
                "piece": mic.piece,
                "role": mic.role,
                "confidence": rows[mic.id].confidence if mic.id in rows else 0,
                "file": rows[mic.id].file if mic.id in rows else "",
                "peak_db": rows[mic.id].peak_db if mic.id in rows else None,
                "missing": not contents[mic.id],
                "content": contents[mic.id],
            }
            for mic in m.plan.mics
            if not mic.is_layer
        ],
        "hits": {p: [[round(h.time_s, 5), h.velocity, h.ghost, h.by_hand] for h in hs] for p, hs in m.hits.items()},
        "pieces": list(PIECES),
        "roles": [role for role in ROLES if role != LAYER],
        "heard": _heard(m),
        "backing": m.plan.backing.to_json() | {"name": backing.name_of(m.session)},
        "warnings": m.session.warnings,
    }


def _heard(m: Measure) -> dict:
    """Return for the check of channels: the pieces, and by mic (level in dBFS, ms after the first mic) of each, None where not measured."""
    rows = {(row.mic, row.piece): row for row in m.heard()}
    pieces = [piece for piece in m.hits if any(p == piece for _, p in rows)]
    loudest = loudest_piece(list(rows.values()))
    return {
        "pieces": pieces,
        "rows": [
            {
                "id": mic.id,
                "name": mic.name,
                "loudest": loudest.get(mic.id, ""),
                "cells": [
                    [rows[mic.id, p].level_db, rows[mic.id, p].later_ms] if (mic.id, p) in rows else None
                    for p in pieces
                ],
            }
            for mic in m.plan.mics
        ],
    }


def level(m: Measure, mic_id: str | None) -> dict:
    """Peaks of each mic at its own hits against the window, with trims."""
    measured, window = m.levels(), m.plan.window
    rows = []
    for mic in m.plan.mics:
        found = measured.get(mic.id)
        if found is None:
            continue
        low, high = window.of(mic.piece, mic.role)
        peaks = np.array(found.hit_peaks_db)
        if peaks.size > 160:
            peaks = np.quantile(peaks, np.linspace(0, 1, 160))
        rows.append(
            {
                "id": mic.id,
                "name": mic.name,
                "piece": mic.piece,
                "own": is_close(mic.role),
                "trim_db": mic.trim_db,
                "peaks_db": np.round(peaks, 1).tolist(),
                "hits": len(found.hit_peaks_db),
                "typical_db": found.typical_db,
                "peak_db": found.peak_db,
                "noise_db": found.noise_db,
                "clipped": len(found.clipped_at_s),
                "low_db": low,
                "high_db": high,
            }
        )
    return {
        "rows": rows,
        "window": window.to_json(),
        "schools": [{"name": n, "window": w.to_json(), "words": words} for n, (w, words) in LEVEL_SCHOOLS.items()],
        "kit_peak_db": round(m.kit_peak_db(), 1),
        "sections": {p: [dataclasses.asdict(s) for s in mine] for p, mine in m.section_levels().items() if mine},
    }


def clean(m: Measure, mic_id: str | None) -> dict:
    """Own hits against others' hits by level, the song with what is open, one hit with the gate over it, and what was done."""
    mic = mic_of(m, mic_id, ("tom1", "floor", "snare"))
    s, way = m.separation(mic), way_of(mic)
    hits = sorted(m.heard_hits.get(mic.piece, []), key=lambda h: h.level_db)
    view = {}
    if hits:
        middle = hits[len(hits) // 2]
        view = _gate_view(m, mic, middle.time_s)
    later_s = mic.line_up.delay_ms / 1000.0
    return {
        "mic": mic.id,
        "row": row_of(m, mic.id),
        "look": m.plan.cleaning.look,
        "looks": [{"name": name, "words": words} for name, words in LOOKS.items()],
        "way": way,
        "ways": [{"name": way, "words": words} for way, words in cleaning.WORDS.items()],
        "done": cleaning.words_of(m.cleaned(mic)),
        "content": pictures.content_of_song(m.plan, recordings_of(m.session), mic.id),
        "length_s": m.recordings.length(m.plan.take) / m.rate,
        "regions": m.regions_s(mic),
        "floors_db": cleaning.floors_db(mic),
        "key": mic.first("gate").key.of if mic.first("gate") else "",
        "full": float(
            db_to_gain(max([*s.own_db, QUIETEST_DB]) - mic.trim_db)
        ),  # of the recording, where the loudest own hit fills the strip
        "opened": m.opened(mic) if way == "gate" else [],
        "own_db": s.own_db,
        "own_s": [round(t + later_s, 4) for t in s.own_s],
        "others_db": s.others_db,
        "others_s": {piece: [round(t + later_s, 4) for t in times] for piece, times in s.others_s.items()},
        "softest_own_db": s.softest_own_db,
        "loudest_other_db": s.loudest_other_db,
        "margin_db": s.margin_db,
        "view": view,
    }


def _gate_view(m: Measure, mic, time_s: float) -> dict:
    time_s += mic.line_up.delay_ms / 1000.0
    start, stop = int((time_s - GATE_VIEW_S[0]) * m.rate), int((time_s + GATE_VIEW_S[1]) * m.rate)
    lead, gate = m.rate, mic.first("gate") or Gate()
    audio = source(m.plan, m.recordings, mic, start - lead, stop)
    gain = gates.gain(m.gate_hears(mic, gate, start - lead, stop), gate, m.rate)[lead:]
    step = max(audio[lead:].size // 900, 1)
    count = audio[lead:].size // step
    wave = audio[lead:][: count * step].reshape(count, step)
    return {
        "start_s": -GATE_VIEW_S[0],
        "step_s": step / m.rate,
        "low": np.round(wave.min(axis=1), 5).tolist(),
        "high": np.round(wave.max(axis=1), 5).tolist(),
        "gain_db": np.round(gain_to_db(gain[: count * step].reshape(count, step).mean(axis=1)), 2).tolist(),
    }


def replace(m: Measure, mic_id: str | None) -> dict:
    """The strength of every hit of one piece over the song, with what is captured, placed and layered."""
    piece = mic_id if mic_id in m.hits else ("snare" if "snare" in m.hits else next(iter(m.hits), None))
    rows = m.hits.get(piece, []) if piece else []
    return {
        "piece": piece,
        "pieces": [p for p in m.hits if m.hits[p]],
        "length_s": m.recordings.length(m.plan.take) / m.rate,
        "hits": [[round(h.time_s, 5), round(h.level_db, 2), h.velocity, h.ghost] for h in rows],
        "shelf": [_kept(m, c) for c in m.plan.captures if c.piece == piece],
        "elsewhere": sum(c.piece != piece for c in m.plan.captures),
        "takes": [[take.key, take.name] for take in m.session.takes.all() if take.key != m.plan.take],
        "mics": [[mic.id, mic.name] for mic in m.plan.mics if mic.piece == piece and is_close(mic.role)],
        "usual_db": usual_level_db(rows),
        "placements": [round(p.at / m.rate, 5) for p in m.plan.placements],
        "sorts": list(SORTS),
        "split": {"low_hz": SPLIT_HZ[0], "high_hz": SPLIT_HZ[1], "usual_hz": USUAL_SPLIT_HZ},
        "made": [
            {
                "id": mic.id,
                "name": mic.name,
                "level_db": mic.level_db,
                "inverted": mic.line_up.inverted,
                "mute": mic.mute,
                "into": mic.into,
                "kind": "made" if mic.made else "sampled",
            }
            | (mic.made or mic.sampled).replace(strikes=()).to_json()
            | {"strikes": len(mic.strikes)}
            for mic in layering.layers(m, piece)
        ],
        "low_end": layering.told(m, piece) if piece and is_shell(piece) else None,
        "ways": layering.ways(m, piece) if piece and has_low_end(piece) else [],
        "key": m.plan.key,
        "keys": list(NOTES),
        "sorts_fit": bool(piece) and has_low_end(piece),
        "in_scenes": OF_A_LAYER,
    }


def _kept(m: Measure, mine: Capture) -> dict:
    """Return a hit of the shelf as its list shows it; time_s : of one of the song, None of one from a file."""
    layers = [mic.name for mic in m.plan.mics if mic.sampled and mine.id in {s.capture for s in mic.sampled.shots}]
    placed = sum(p.capture == mine.id for p in m.plan.placements)
    return {
        "id": mine.id,
        "name": mine.name or mine.id,
        "time_s": None if mine.parts else mine.at / m.rate,
        "level_db": mine.level_db,
        "strength_db": mine.strength_db if mine.parts else None,
        "origin": mine.origin,
        "length_ms": round(1000 * mine.length / m.rate),
        "used": layers + ([f"{placed} replaced"] if placed else []),
    }


def tone(m: Measure, mic_id: str | None) -> dict:
    """Spectrum during own hits, between and during others' hits, and the equaliser's curve."""
    mic = mic_of(m, mic_id)
    measured = m.tone(mic)
    mine = [tool for tool in mic.tools if tool.kind == "tone"]
    axis = np.array(measured.axis_hz)
    curves = {tool.id: np.round(curve_db(tool.replace(on=True), axis, m.rate), 3).tolist() for tool in mine or [Tone()]}
    return {
        "mic": mic.id,
        "axis_hz": measured.axis_hz,
        "own_db": measured.own_db,
        "between_db": measured.between_db,
        "others_db": measured.others_db,
        "fundamental_hz": measured.fundamental_hz,
        "ring": dataclasses.asdict(measured.ring) if measured.ring else None,
        "box": dataclasses.asdict(measured.box) if measured.box else None,
        "bleed": [dataclasses.asdict(each) for each in measured.bleed],
        "zones": zones_of(mic.piece, mic.role),
        "boosts": toning.boosts(m),
        "music": m.plan.backing.on,
        "curves_db": curves,
        "row": row_of(m, mic.id),
    }


def punch(m: Measure, mic_id: str | None) -> dict:
    """The average hit before and after, whole and by band, attack and body in figures; two bars of it with what its compressor takes."""
    mic = mic_of(m, mic_id)
    rows = [
        {
            "name": name or "whole",
            "before": dataclasses.asdict(before),
            "after": dataclasses.asdict(after),
            "figures": [attack_and_body_db(before), attack_and_body_db(after)],
        }
        for name, (before, after) in m.envelopes(mic).items()
    ]
    compressor = mic.first("compressor")
    on = compressor is not None and compressor.on
    taken = solving.taken_by(m, f"mic:{mic.id}", compressor) if on else None
    bars = solving.bars(m, f"mic:{mic.id}", compressor) if on else None
    return {
        "mic": mic.id,
        "bands": rows,
        "taken": dataclasses.asdict(taken) if taken else None,
        "over": dataclasses.asdict(bars)
        | {"threshold_db": compressor.threshold_db, "beat_ms": 1000.0 * beat_s(m.plan.tempo)}
        if bars
        else None,
        "schools": dialling.schools(),
        "row": row_of(m, mic.id),
    }


def blend(m: Measure, strip: str | None) -> dict:
    """Sections across, strips down: what is set in each and how loud it is there; what the kit's compressor takes; the row of the chosen strip, of the kit once
    that is gone.
    """
    start_s = m.busy_span()[0] / m.rate
    plan, song = m.plan, _whole(m)
    cells = blending.Cells(m.session.plan, song)
    chosen = strip if strip in {each.name for each in places.all_of(plan)} else places.KIT
    return {
        "strips": strips_of(m),
        "recipes": [{"key": key, "name": make().name} for key, make in usual.PATHS.items()],
        "across": [{"name": section.name, "bar": section.bar} for section in plan.sections],
        "rows": [
            _blend_row("mics", mic, cells) | {"piece": mic.piece, "into": group_id(mic, plan.groups)}
            for mic in plan.mics
        ],
        "groups": [_blend_row("groups", group, cells) for group in plan.groups],
        "paths": [_blend_row("paths", path, cells) | {"into": path.into} for path in plan.paths],
        "kit": _blend_row("kit", plan.kit, cells),
        "off_db": OFF_DB,
        "row": row_of(m, chosen),
        "compresses": bool((mine := plan.kit.first("compressor")) and mine.on),
        "figures": m.kit(),
        "whole": (song or {}).get("kit"),
        "rate": m.rate,
        "next_hits": [
            round(h.time_s - start_s, 4) for p in ("kick", "snare") for h in m.heard_hits.get(p, []) if not h.ghost
        ],
    }


def _blend_row(field: str, strip, cells: blending.Cells) -> dict:
    if field == places.KIT:
        return {"place": places.KIT, "id": places.KIT, "name": places.KIT, "level_db": strip.level_db} | cells.of(
            places.KIT
        )
    return {
        "place": f"{field}.{strip.id}",
        "id": strip.id,
        "name": strip.name,
        "level_db": strip.level_db,
        "pan": strip.pan,
        "mute": strip.mute,
        "sends": {send.id: send.level_db for send in strip.sends},
        "tools": [tool.kind for tool in strip.tools if tool.on],
    } | cells.of(f"{field}.{strip.id}")


def prints(m: Measure, mic_id: str | None) -> dict:
    """Every output as the Plan stands, measured over the whole song, and what has been printed, newest first."""
    return {
        "whole": _whole(m),
        "key": whole.key_of(m.session, m.plan),
        "outputs": _outputs(m),
        "wanted_peak_db": KIT_PEAK_DB,
        "lowered": lowered_words(expected_lowering_db(m.session, m.plan, "wav24")),
        "prints": [
            {
                "id": p.pk,
                "at": p.at.isoformat(timespec="seconds"),
                "format": p.format,
                "version": p.version,
                "files": p.manifest["files"],
                "lowered": lowered_words(p.manifest.get("lowered_db", 0.0)),
                "current": p.version == m.session.version,
                "account": (Path(p.folder) / ACCOUNT).is_file(),
            }
            for p in m.session.prints.all()[:10]
        ],
        "mics": len(m.plan.mics),
        "length_s": m.recordings.length(m.plan.take) / m.rate,
        "rate": m.rate,
    }


def _whole(m: Measure) -> dict | None:
    return whole.found(m.session, m.plan)


def _outputs(m: Measure) -> list[dict]:
    """Return the rows of the print's chart: the kit, its paths and stems, then the mics, as name and words."""
    names = {f"strip:{mic.id}": (mic.name, mic.piece) for mic in m.plan.mics}
    words = {each.name: f"{each.sort} {each.words}" for each in places.all_of(m.plan)}
    words |= {f"alone:{mic.id}": f"stem {mic.name}" for mic in m.plan.mics}
    known = _whole(m) or {}
    stems = [name for name in known if name not in names and name != "kit"]
    rows = [("kit", "kit mix", "kit")] + [(name, words.get(name, name), "stem") for name in stems]
    rows += [(name, *both) for name, both in names.items()]
    return [{"id": name, "name": each, "piece": piece} for name, each, piece in rows]


def kit(m: Measure, mic_id: str | None) -> dict:
    """The kit's card against the targets of its school, and its average kick and back-beat."""
    school, span = m.plan.school, m.busy_span()
    return {
        "card": carding.told(carding.card(m, school, span)),
        "lost": carding.told(carding.lost(m, school, span)),
        "hits": carding.average_hits(m, span),
        "span_s": [round(each / m.rate, 1) for each in span],
        "calm_s": [round(each / m.rate, 1) for each in m.calm_span()] if carding.known_calm(m) else None,
        "done": carding.done(m.session),
    }


CHARTS = {
    "load": load,
    "level": level,
    "lineup": lineup,
    "takes": takes,
    "timing": timing,
    "clean": clean,
    "replace": replace,
    "tone": tone,
    "punch": punch,
    "blend": blend,
    "kit": kit,
    "print": prints,
}


def mic_list(plan: Plan, step: str) -> list[dict]:
    """Return id, name and piece of each mic that a page can choose: layers only where they have a row of tools."""
    mics = plan.standing if step in LAYERS_SHOWN else [mic for mic in plan.mics if not mic.is_layer]
    return [{"id": mic.id, "name": mic.name, "piece": mic.piece, "role": mic.role} for mic in mics]
