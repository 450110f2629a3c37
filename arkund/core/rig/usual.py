"""How a rig begins: the usual rows of tools, groups and paths, all of which may be changed."""

from arkund.core.kit.pieces import GROUPS
from arkund.core.rig.strips import Group, Kit, Path
from arkund.core.tools.tool import Key, Tool, module_of, tool

GROUP_NAMES = {"toms": "toms", "cymbals": "hats and cymbals"}
FIRST_GROUPS = tuple(Group(id=each, name=GROUP_NAMES.get(each, each)) for each in GROUPS)


def mic_row() -> tuple[Tool, ...]:
    """Return what stands ready in a mic's row: cleaned, then toned, then shaped; all off, the equaliser without a filter."""
    return tool("gate"), tool("tone"), tool("shaper"), tool("compressor")


def kit() -> Kit:
    """Return the kit's strip: a gentle compressor and a limiter, both off."""
    gentle = tool("compressor", threshold_db=-14.0, ratio=2.0, attack_ms=30.0, release_ms=120.0, knee_db=6.0)
    return Kit(tools=(gentle, tool("limiter")))


def punch(**settings) -> Path:
    """Return PUNCH: strokes sharpened, weight and crack lifted, and all that held down late, so that they stand out."""
    band = module_of("tone").Band
    lifts = (
        band(kind="low_shelf", frequency_hz=125.0, gain_db=3.0),
        band(frequency_hz=500.0, gain_db=-3.0),
        band(frequency_hz=2000.0, gain_db=-2.0, q=1.4),
        band(frequency_hz=4000.0, gain_db=2.0, q=1.4),
        band(kind="high_shelf", frequency_hz=8000.0, gain_db=2.0),
    )
    row = (
        tool("shaper", on=True, attack_db=6.0),
        tool("tone", on=True, bands=lifts),
        tool("compressor", on=True, threshold_db=-28.0, ratio=10.0, knee_db=3.0, attack_ms=25.0, release_ms=50.0),
    )
    return Path(**({"id": "punch", "name": "PUNCH", "level_db": -12.0, "tools": row} | settings))


def sustain(**settings) -> Path:
    """Return SUSTAIN: what is sent is crushed at once, so that ghosts, room and tails come up; the kick does not drive it."""
    crushed = tool(
        "compressor",
        on=True,
        threshold_db=-36.0,
        ratio=20.0,
        knee_db=3.0,
        attack_ms=0.1,
        release_ms=60.0,
        key=Key(low_hz=120.0),
    )
    return Path(**({"id": "sustain", "name": "SUSTAIN", "level_db": -12.0, "tools": (crushed,)} | settings))


def crush(**settings) -> Path:
    """Return CRUSH: rooms, a talkback or a floor mic held down by everything there is, fast in and out."""
    crushed = tool("compressor", on=True, threshold_db=-40.0, ratio=30.0, knee_db=0.0, attack_ms=0.2, release_ms=80.0)
    return Path(**({"id": "crush", "name": "CRUSH", "level_db": -18.0, "tools": (crushed,)} | settings))


def weight(**settings) -> Path:
    """Return WEIGHT: the bottom of a kick alone, crushed and shortened."""
    band = module_of("tone").Band
    bump = (band(kind="low_shelf", frequency_hz=70.0, gain_db=4.0), band(frequency_hz=110.0, gain_db=-3.0))
    row = (
        tool("tone", bands=(band(kind="low_pass", frequency_hz=136.0, slope_db=24),)),
        tool("compressor", on=True, threshold_db=-36.0, ratio=20.0, attack_ms=5.0, release_ms=60.0),
        tool("shaper", on=True, sustain_db=-9.0),
        tool("tone", id="tone-2", bands=bump),
    )
    return Path(**({"id": "weight", "name": "WEIGHT", "level_db": -15.0, "tools": row} | settings))


def glow(**settings) -> Path:
    """Return GLOW: the whole kit without its bottom, crushed, dirtied, in a short room."""
    band = module_of("tone").Band
    row = (
        tool("tone", on=True, bands=(band(kind="high_pass", frequency_hz=150.0, slope_db=12),)),
        tool("compressor", on=True, threshold_db=-36.0, ratio=12.0, attack_ms=1.0, release_ms=90.0),
        tool("grit", on=True, shape="tape", drive_db=12.0),
        tool("space", on=True, decay_s=0.4, size_m=5.0, share=0.4),
    )
    return Path(**({"id": "glow", "name": "GLOW", "level_db": -18.0, "tools": row} | settings))


def plate(**settings) -> Path:
    """Return PLATE: a snare's bright and dense room, held even by a smooth compressor."""
    smooth = tool("compressor", on=True, threshold_db=-30.0, ratio=3.0, attack_ms=20.0, release_ms=200.0, knee_db=12.0)
    room = tool(
        "space", on=True, pre_delay_ms=15.0, decay_s=1.4, lows=0.8, highs=0.6, size_m=9.0, density=1.0, low_cut_hz=180.0
    )
    return Path(**({"id": "plate", "name": "PLATE", "level_db": -18.0, "tools": (room, smooth)} | settings))


PATHS = {"punch": punch, "sustain": sustain, "weight": weight, "crush": crush, "glow": glow, "plate": plate}
