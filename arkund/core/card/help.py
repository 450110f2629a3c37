"""What usually holds a figure of the card back, and where that is mended: a sentence for when it is too low, one for too high, each with a step."""

LOW, HIGH = "low", "high"
HELP: dict[str, dict[str, tuple[str, str]]] = {
    "density": {
        LOW: (
            "Its peaks are held down further than this style wants: less clipping, or a softer SUSTAIN.",
            "blend",
        ),
        HIGH: ("Its peaks stand far over the rest: SUSTAIN raised, or a little clipping of the loudest hits.", "blend"),
    },
    "attack_kick": {
        LOW: ("The kick is soft against its body: more attack of its shaper, or a beater mic raised.", "punch"),
        HIGH: ("The kick is all attack: less of it in its shaper.", "punch"),
    },
    "attack_snare": {
        LOW: (
            "The snare is soft against its body: more attack of its shaper, slower attacks of its compressors.",
            "punch",
        ),
        HIGH: ("The snare is all attack: less of it in its shaper.", "punch"),
    },
    "contrast": {
        LOW: (
            "What sounds before a hit fills the gap: overheads and rooms softer, drums shorter.",
            "clean",
        ),
    },
    "kick": {
        LOW: ("The kick is softer than the back-beat: its group louder.", "blend"),
        HIGH: ("The kick is louder than the back-beat: its group softer.", "blend"),
    },
    "toms": {
        LOW: ("Toms are buried: their group louder, or hits that were played softly evened by the leveller.", "blend"),
        HIGH: ("Toms stand out: their group softer.", "blend"),
    },
    "cymbals": {
        LOW: (
            "Hats and ride are soft as they were played: their mics louder.",
            "blend",
        ),
        HIGH: (
            "Hats and ride are loud: their mics and the overheads softer, or overheads tucked under the snare.",
            "punch",
        ),
    },
    "ghosts": {
        LOW: ("Ghosts were lost: a lower threshold in the snare's mic, or SUSTAIN raised.", "clean"),
        HIGH: ("Ghosts come near the back-beats: SUSTAIN softer, less reduction in the snare's mics.", "blend"),
    },
    "bleed_toms": {HIGH: ("Tom mics hear the others: cut by hits, or a deeper range.", "clean")},
    "bleed": {
        HIGH: (
            "Kick and snare mics hear more of the others than they did: less sustain and slower releases, or a gate.",
            "clean",
        )
    },
    "low_end": {
        LOW: (
            "What carries the bottom cancels, or one strip has it alone: line up, or let the kick's mics share its range.",
            "tone",
        )
    },
    "slope": {
        HIGH: ("One octave stands far off the slope: a wide filter over the kit, or what is loudest there.", "tone")
    },
    "crashes": {
        LOW: ("Crashes are buried: overheads louder.", "blend"),
        HIGH: ("Crashes stand over the snare: overheads softer.", "blend"),
    },
    "mono": {HIGH: ("Sides cancel in mono: the polarity and arrival of rooms and overheads.", "lineup")},
    "headroom": {
        LOW: ("It peaks lower than it may: the kit's level.", "blend"),
        HIGH: ("It peaks higher than it should: the kit's level.", "blend"),
    },
    "plr": {LOW: ("Peaks are flattened: less clipping and limiting, a softer SUSTAIN.", "blend")},
    "clip_usual": {HIGH: ("Usual hits are clipped: less drive, a higher ceiling.", "punch")},
    "clip_loudest": {HIGH: ("The loudest hits are clipped deep: less drive, a higher ceiling.", "punch")},
    "distortion": {HIGH: ("Hits are distorted: less drive of saturation and clippers, or a softer shape.", "punch")},
    "accents_kick": {LOW: ("Kicks were levelled: less clipping, a higher threshold of their compressors.", "punch")},
    "accents_snare": {
        LOW: ("Back-beats were levelled: less clipping, a higher threshold of their compressors.", "punch")
    },
    "hats_even": {
        HIGH: ("Hats swing with the kit: less ducking and reduction in their mics and the overheads.", "punch")
    },
    "steady": {HIGH: ("Overheads or rooms swing with the hits: less reduction and ducking by their tools.", "punch")},
    "tail_cut": {HIGH: ("A drum is cut while it still rings: a longer hold and release, or regions.", "clean")},
    "tails": {LOW: ("What rings between hits is cut: a smaller range, a longer hold and release.", "clean")},
    "floor": {HIGH: ("What lies between hits came up: SUSTAIN softer, less reduction.", "blend")},
    "top": {
        LOW: ("The top was lost: low-passes and saturation, or overheads that are too soft.", "tone"),
        HIGH: ("The top came up: softer high shelves.", "tone"),
    },
    "width": {
        LOW: ("The kit became narrower: overheads and rooms are too soft against the close mics.", "blend"),
        HIGH: ("The kit became wider: overheads and rooms are too loud against the close mics.", "blend"),
    },
    "image_kick": {
        LOW: ("The kick comes from the right: its pan, or the overheads' levels.", "blend"),
        HIGH: ("The kick comes from the left: its pan, or the overheads' levels.", "blend"),
    },
    "image_snare": {
        LOW: ("The snare comes from the right: its pan, or the overheads' levels.", "blend"),
        HIGH: ("The snare comes from the left: its pan, or the overheads' levels.", "blend"),
    },
    "image_cymbals": {
        LOW: ("Cymbals moved to the right: the overheads' levels and pans.", "blend"),
        HIGH: ("Cymbals moved to the left: the overheads' levels and pans.", "blend"),
    },
}


def help_of(key: str, value: float | None, target: tuple[float, float]) -> tuple[str, str] | None:
    """Return what holds a figure back, in a sentence, and the step where it is mended; None where it is met, not known, or nothing is known of it."""
    if value is None or target[0] <= value <= target[1]:
        return None
    return HELP.get(key, {}).get(LOW if value < target[0] else HIGH)
