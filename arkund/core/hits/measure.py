"""Find every hit of every close-miked piece, and tell it from the bleed of the others."""

from collections.abc import Sequence

from arkund.core.beside import shared
from arkund.core.hits import evidence
from arkund.core.hits.bands import Reader, measure_bands
from arkund.core.hits.judge import judge
from arkund.core.hits.refine import FoundHit, refine
from arkund.core.hits.settings import Channel, HitSettings

DIFFERENCES = {"kick": 1, "snare": 1, "tom": 2, "cymbal": 2}  # see refine


def find_hits(
    readers: Sequence[Reader],
    channels: Sequence[Channel],
    sample_rate_hz: int,
    settings: HitSettings,
    on_progress=lambda share: None,
) -> dict[str, list[FoundHit]]:
    """Return the hits of each piece that has a close mic, sorted by time."""
    bands = measure_bands(readers, sample_rate_hz, lambda share: on_progress(0.6 * share))
    scene = evidence.scene(bands, channels)
    sure = judge(scene)
    kept = evidence.apart(scene, sure, settings.sure_percent / 100.0, settings.apart_ms)
    on_progress(0.9)

    def refined(number: int) -> list[FoundHit]:
        mine, differences = kept & (scene.pieces == number), DIFFERENCES[evidence.family(scene.names[number])]
        return refine(readers[scene.first[number]], scene.frames[mine], sure[mine], sample_rate_hz, differences)

    wanted = [number for number, name in enumerate(scene.names) if name != evidence.ELSEWHERE]
    out = dict(zip((scene.names[number] for number in wanted), shared(refined, wanted), strict=True))
    on_progress(1.0)
    return out
