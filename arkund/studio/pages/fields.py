"""The exact values beside a chart: name, range, step and unit of each field, as the settings state them."""

from arkund.core.level.settings import Window
from arkund.core.lineup.settings import LineUpSettings
from arkund.core.plan.plan import Backing, LineUp, MicPlan, Tempo
from arkund.core.replace.made import Made
from arkund.core.replace.sampled import Sampled
from arkund.core.rig.scenes import Scene
from arkund.core.rig.strips import Kit, Path, Send, Strip
from arkund.core.takes.settings import CompSettings
from arkund.core.timing.settings import QuantiseSettings
from arkund.core.tools.tool import KINDS, Key, settings_of

NAMES = {
    "q": "Q",
    "bpm": "tempo",
    "mix": "share",
    "follow": "follows strength",
    "frequency_hz": "frequency",
    "fall_octaves": "begins higher by",
    "least_db": "strikes from",
    "input_db": "into it",
    "low_hz": "key from",
    "high_hz": "key up to",
    "early_ms": "ahead of strikes",
    "length_ms": "a strike lasts",
    "down_db": "down between hits",
    "sooner_ms": "ends sooner by",
    "strong_db": "strong hits to",
    "soft_db": "soft hits to",
    "part_db": "soft below",
    "most_db": "changed at most by",
    "grid": "grid (per whole note)",
    "from_hz": "acts from",
    "up_to_hz": "acts up to",
}
UNIT_ENDINGS = {"_db": "dB", "_ms": "ms", "_hz": "Hz", "_s": "s", "_m": "m"}
UNITS = {"bpm": "BPM", "ratio": ": 1", "clock_ppm": "ppm", "temperature_c": "°C", "ceiling_db": "dBTP"}

_BY_STEP = {
    "home": {"tempo": Tempo},
    "load": {"backing": Backing},
    "level": {"mic": MicPlan, "window": Window},
    "lineup": {"line_up": LineUp, "alignment": LineUpSettings},
    "timing": {"tempo": Tempo, "quantise": QuantiseSettings},
    "takes": {"comp": CompSettings},
    "replace": {"made": Made, "sampled": Sampled, "strip": Strip},
    "blend": {"strip": Strip, "send": Send, "path": Path, "kit": Kit, "scene": Scene},
}
WITH_ROWS = ("clean", "tone", "punch", "blend")  # pages that show a strip's row of tools
WITH_SCENES = (*WITH_ROWS, "replace")  # pages on which something can be set for a scene


def fields_of(step: str) -> dict[str, list[dict]]:
    """Return the number fields of each settings class that a step's page offers."""
    out = {name: fields(cls) for name, cls in _BY_STEP.get(step, {}).items()}
    if step in WITH_ROWS:
        from arkund.core.tools.shaper import Above
        from arkund.core.tools.tone import Band

        out |= {kind: fields(settings_of(kind)) for kind in KINDS} | {
            "key": fields(Key),
            "band": fields(Band),
            "above": fields(Above),
        }
    return out


def ranges_of(step: str) -> dict[str, dict[str, dict]]:
    """Return the same fields by settings class and key, for inputs that a template writes by hand."""
    return {name: {each["key"]: each for each in rows} for name, rows in fields_of(step).items()}


def fields(cls) -> list[dict]:
    """Return the number fields of a settings class for forms and sliders."""
    return [
        {
            "key": key,
            "label": label(key),
            "low": each.low,
            "high": each.high,
            "step": each.step,
            "unit": each.unit,
            "help": each.help,
        }
        for key, each in cls.ranges().items()
    ]


def choices_of(step: str) -> dict[str, list[dict]]:
    """Return the fields of several options of each kind of tool, where a step's page shows tools."""
    if step not in WITH_ROWS:
        return {}
    rows = {kind: settings_of(kind).choices() for kind in KINDS}
    return {
        kind: [{"key": key, "label": label(key), "options": list(options)} for key, options in mine.items()]
        for kind, mine in rows.items()
    }


def unit_of(key: str) -> str:
    """Return the unit of a field by its name (or by a path that ends with it), nothing where it has none."""
    name = key.rpartition(".")[2]
    return UNITS.get(name) or next((unit for ending, unit in UNIT_ENDINGS.items() if name.endswith(ending)), "")


def label(key: str) -> str:
    """Return a field's name for people: without its unit, in words."""
    if key in NAMES:
        return NAMES[key]
    for ending in UNIT_ENDINGS:
        key = key.removesuffix(ending)
    return key.replace("_", " ")
