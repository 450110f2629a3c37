"""The full rig of the bench: every shell cleaned, toned, shaped and held, groups and paths with rows of their own, a room, four scenes."""

import statistics
from collections.abc import Callable
from pathlib import Path

AUDITIONS = 17


def full_rig(plan):
    """Return a Plan with everything that a large mix has."""
    from arkund.core.kit.pieces import is_close
    from arkund.core.plan.plan import Section
    from arkund.core.rig import usual
    from arkund.core.rig.scenes import Held, Scene
    from arkund.core.rig.strips import Send
    from arkund.core.tools.tone import Band
    from arkund.core.tools.tool import tool

    def tone(count: int):
        return tool(
            "tone", bands=tuple(Band(frequency_hz=120.0 * 1.9**k, gain_db=(-1) ** k * 3.0, q=1.2) for k in range(count))
        )

    shell = (
        tool("gate", on=True, threshold_db=-38.0),
        tone(6),
        tool("shaper", on=True, attack_db=3.0),
        tool("compressor", on=True, threshold_db=-24.0, ratio=4.0),
    )
    paths = tuple(make(level_db=-14.0, mute=False) for make in (usual.punch, usual.sustain, usual.glow, usual.plate))
    paths = tuple(
        path.replace(tools=(tone(2), *path.tools)[:4] if len(path.tools) < 3 else path.tools) for path in paths
    )
    sends = tuple(Send(id=path.id, level_db=-3.0) for path in paths)
    mics = tuple(
        mic.replace(tools=shell, sends=sends) if is_close(mic.role) else mic.replace(tools=(tone(3),), sends=sends[1:3])
        for mic in plan.mics
    )
    row = (tone(2), tool("compressor", on=True, threshold_db=-18.0, ratio=2.0), tool("grit", on=True, drive_db=4.0))
    groups = tuple(group.replace(tools=row) for group in plan.groups)
    kit = (tone(2), tool("compressor", on=True, threshold_db=-14.0, ratio=2.0), tool("limiter", on=True))
    sections = tuple(Section(name=f"part {k + 1}", bar=4 * k) for k in range(8))
    first = mics[3].id
    held = (
        {"paths.plate.level_db": -8.0, f"mics.{first}.level_db": 1.5},
        {"groups.rooms.level_db": 3.0, f"mics.{first}.tools.compressor.threshold_db": -28.0},
        {"paths.glow.mute": True, "groups.kick.level_db": 1.0},
        {"kit.tools.compressor.threshold_db": -17.0, "paths.punch.level_db": -9.0},
    )
    scenes = tuple(
        Scene(
            id=f"s{k}",
            name=f"Scene {k + 1}",
            sections=(f"part {2 * k + 1}",),
            held=tuple(Held(place=p, value=v) for p, v in mine.items()),
        )
        for k, mine in enumerate(held)
    )
    return plan.replace(
        mics=mics, groups=groups, paths=paths, kit=plan.kit.replace(tools=kit), sections=sections, scenes=scenes
    )


def full_figures(session, folder: Path, seconds: float, loop_s: int, timed: Callable, p95: Callable) -> dict:
    """Return how fast the full rig is printed, and heard after a change of one mic, of a group, and of a scene."""
    from arkund.core.plan import change
    from arkund.studio.services import listening, rendering
    from arkund.studio.services.printing import print_session

    plan, rate = full_rig(session.plan), session.sample_rate_hz
    span = (20 * rate, (20 + loop_s) * rate)
    question = listening.Question(span)
    listening.audition(session, plan, question)
    mic, times = plan.mics[3].id, {"one": [], "group": []}
    for number in range(AUDITIONS):
        small = 0.1 * (number + 1)
        for kind, changes in (
            ("one", {f"mics.{mic}.tools.tone.bands.0.gain_db": small}),
            (
                "group",
                {"groups.snare.tools.compressor.threshold_db": -18.0 - small}
                if number % 2
                else {"scenes.s2.held.1.value": small},
            ),
        ):
            tried = change.put(plan, changes)
            times[kind].append(1000 * timed(lambda tried=tried: listening.audition(session, tried, question))[0])
    rendering.cache().clear()
    session.plan = plan
    print_s, _ = timed(lambda: print_session(session, folder))
    return {
        "full_rig_print_x_realtime": round(seconds / print_s, 1),
        "full_rig_one_mic_ms_median": round(statistics.median(times["one"]), 1),
        "full_rig_one_mic_ms_p95": round(p95(times["one"]), 1),
        "full_rig_group_or_scene_ms_median": round(statistics.median(times["group"]), 1),
        "full_rig_group_or_scene_ms_p95": round(p95(times["group"]), 1),
    }
