"""The steps of the job in the order of the work: the question that each page answers, and what of a strip each sets."""

from dataclasses import dataclass

KIT = "kit"  # the step at which the kit is brought to its targets


@dataclass(frozen=True, slots=True)
class Step:
    """A step's name, the question that its page answers, and a sentence on how to read the chart.

    tools : the kinds of tools that it sets; mic_fields : what else of a mic. Without them the Plan is as it was before the step.
    """

    key: str
    name: str
    question: str
    reading: str
    tools: tuple[str, ...] = ()
    mic_fields: tuple[str, ...] = ()


STEPS = {
    s.key: s
    for s in (
        Step(
            "load",
            "Load",
            "What did each mic really hear?",
            "Every mic over the song; above them the hits that were found, by piece, and the bar lines, which can be dragged.",
        ),
        Step(
            "level",
            "Level",
            "Has every drum room to grow?",
            "Each point is one hit's peak in its own mic after the trim; the hatched band is the window.",
            mic_fields=("trim_db", "repair"),
        ),
        Step(
            "lineup",
            "Line up",
            "Do the mics push together, at the same moment?",
            "One drum’s average hit in every mic; the dotted line is the reference’s first sample.",
            mic_fields=("line_up", "clock_ppm"),
        ),
        Step(
            "takes",
            "Takes",
            "Which bar of which take tells it best?",
            "Each column is a bar: the taller, the better it is played; marked ones are heard.",
        ),
        Step(
            "timing",
            "Timing",
            "How far is each hit from where it was meant?",
            "A row per bar, each glyph where the stroke fell; beside it the kit's drift.",
        ),
        Step(
            "clean",
            "Clean",
            "Whose sound is this?",
            "Above, the song in this mic and where it is heard. Below, own hits against other drums' hits, by level; the line is the threshold.",
            tools=("regions", "gate", "leveller"),
        ),
        Step(
            "replace",
            "Replace",
            "Which hits are missing or too weak?",
            "Above, every hit of the piece by strength over the song; below, hits that are kept, and what lies under all.",
        ),
        Step(
            "tone",
            "Tone",
            "Which frequencies does each drum own?",
            "Solid: this mic during its own hits. Dashed: between hits. Dotted: others' hits, named where they stand highest."
            " Click a name to cut there, hold elsewhere to sweep.",
            tools=("tone",),
        ),
        Step(
            "punch",
            "Punch",
            "How is the hit shaped in time?",
            "The average hit: thin before, heavy after. Below, two bars: what comes in, what the compressor takes, what is left at each hit.",
            tools=("shaper", "compressor"),
        ),
        Step(
            "blend",
            "Blend",
            "How do drums, paths and sections add up?",
            "Strips down, sections across: how loud each is there, and what was set. Below, the row of the chosen strip and the kit's figures.",
        ),
        Step(
            "kit",
            "Kit",
            "Does it hit?",
            "Each figure raw (open), now (filled) and in the calmest part (upright); hatched: where it should lie. Then the costs; below, the average hits.",
        ),
        Step(
            "print",
            "Print",
            "What leaves the room, and can it be made again?",
            "Every output over the whole song as it stands; dashed: the peak that the kit should stay below.",
        ),
    )
}
