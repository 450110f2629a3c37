"""How mics are brought into step: the schools."""

from dataclasses import dataclass

from arkund.core.settings import Settings, choice, number

SCHOOLS = {
    "drum": "Only mics of one drum are lined up to each other; overheads and rooms keep their distance.",
    "overheads": "Close mics are delayed to the moment at which the overheads hear their drum.",
    "polarity": "Only polarity is put right; arrival is left natural.",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class LineUpSettings(Settings):
    """What the proposal lines up to what, and how warm the room was."""

    school: str = choice("drum", tuple(SCHOOLS))
    rooms_nearer: float = number(
        0.0, 0.0, 100.0, step=5, unit="%", help="of their distance that rooms are pulled nearer"
    )
    temperature_c: float = number(20.0, -10.0, 45.0, step=1, unit="°C", help="what a millisecond is in centimetres")
