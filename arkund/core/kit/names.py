"""What the names of a folder's files say about its mics: piece, role, side and how sure that is. A folder is solved as a whole.

What one name leaves open is often said by the others: a number in front of every name is a counter, a third tom beside two is the floor tom where none is
called so, a plain "Kick" beside a "Kick In" is the outer one. A wrong name is worse than an unsure one: where a name hangs on such a conclusion, it says so by
its confidence.
"""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field

from arkund.core.kit.tokens import Token, meaningful, tokens_of
from arkund.core.kit.words import (
    HEIGHT_OF,
    LETTERS,
    LONGEST_PHRASE,
    PHRASE_OF,
    PIECE_OF,
    ROLE_LETTERS,
    ROLE_OF,
    SIDE_OF,
)

SURE, SHORT, LETTER, GUESS, NONE = 0.98, 0.92, 0.75, 0.55, 0.0
NEXT_TO = 0.85  # concluded from the other names, as most would
MOST_TOMS = 4
TOM_INCHES = range(8, 21)  # what a tom is called by that is called by its size
FLOOR_INCHES = 14  # from here on it stands on the floor, if it is the largest
KIT_WIDE = ("overhead", "room", "talkback")
HEIGHT_ORDER = {"high": 0, "": 1, "mid": 1, "low": 2}
ROMAN = {"i": 1, "ii": 2, "iii": 3, "iv": 4}


@dataclass(frozen=True, slots=True)
class Recognised:
    """What a name says; confidence 0 means that it says nothing."""

    piece: str
    role: str
    side: str  # "L", "R" or ""
    confidence: float


NOTHING = Recognised("kit", "room", "", NONE)


@dataclass(slots=True)
class _Reading:
    """What the words of one name say by themselves."""

    piece: str = ""
    role: str = ""
    side: str = ""
    height: str = ""
    number: int | None = None
    inches: int | None = None  # of a tom that is called by its size
    below: bool = False  # a snare's letter that says upper beside a lower one, and under beside a top one
    rack: bool = False
    sure: float = NONE
    others: set[str] = field(default_factory=set)  # further pieces in the same name


def recognise(file_name: str) -> Recognised:
    """Return what one name says by itself."""
    return recognise_folder([file_name])[0]


def recognise_folder(names: Sequence[str]) -> list[Recognised]:
    """Return piece, role and side for each of a folder's names (of one take), in any usual spelling and each in the light of the others."""
    readings = [_read(tokens) for tokens in meaningful([tokens_of(name) for name in names])]
    out: list[Recognised] = [NOTHING] * len(readings)
    for solve, pieces in ((_toms, ("tom", "floor")), (_kicks, ("kick",)), (_snares, ("snare",))):
        mine = [k for k, reading in enumerate(readings) if reading.piece in pieces]
        for k, found in zip(mine, solve([readings[k] for k in mine]), strict=True):
            out[k] = found
    for k, reading in enumerate(readings):
        if reading.piece in KIT_WIDE:
            out[k] = Recognised("kit", reading.piece, reading.side, reading.sure)
        elif reading.piece in ("hihat", "ride", "crash"):
            out[k] = Recognised(reading.piece, "spot", "", reading.sure)
    return out


# What one name says


def _read(tokens: list[Token]) -> _Reading:
    reading, rest = _Reading(), []
    k = 0
    while k < len(tokens):
        size = _phrase(tokens, k)
        if size:
            _take(reading, PHRASE_OF[tuple(token.text for token in tokens[k : k + size])], SURE)
            reading.rack |= "rack" in (token.text for token in tokens[k : k + size])
            k += size
        else:
            rest.append((k, tokens[k]))
            k += 1
    words = [token.text for k, token in rest if not _is_model(tokens, k)]
    for k, token in rest:
        word = token.text
        if _is_model(tokens, k) or (word == "rt" and not _is_rack(reading, tokens, k)):
            continue
        if word in PIECE_OF:
            _take(reading, PIECE_OF[word], SURE if len(word) > 2 else SHORT)
            reading.rack |= word in ("rack", "racks", "racktom", "rtom", "rt")
    if not reading.piece:
        for word in (word for word in words if word in LETTERS):
            _take(reading, LETTERS[word], LETTER if len(words) > 1 else GUESS)
            break
    _roles(reading, words)
    _numbers(reading, tokens)
    if reading.sure == LETTER and (reading.role or (reading.piece == "tom" and reading.number)):
        reading.sure = SHORT  # a letter in such company says as much as a word
    return reading


def _is_rack(reading: _Reading, tokens: list[Token], at: int) -> bool:
    """Say whether RT stands for a rack tom, and not for the right side: a number is glued to it, or it is all that there is."""
    after = tokens[at + 1] if at + 1 < len(tokens) else None
    numbered = after is not None and after.glued and after.number is not None
    return not reading.piece and (numbered or sum(token.number is None for token in tokens) == 1)


def _is_model(tokens: list[Token], at: int) -> bool:
    """Say whether a letter is the beginning of a microphone's model: a number is glued to it, as it is to no drum's but a tom's."""
    after = tokens[at + 1] if at + 1 < len(tokens) else None
    return (
        len(tokens[at].text) == 1
        and after is not None
        and after.glued
        and after.number is not None
        and tokens[at].text != "t"
    )


def _phrase(tokens: list[Token], at: int) -> int:
    """Return how many words from a place on are a phrase, the longest there is."""
    for size in range(min(LONGEST_PHRASE, len(tokens) - at), 1, -1):
        if tuple(token.text for token in tokens[at : at + size]) in PHRASE_OF:
            return size
    return 0


def _take(reading: _Reading, meaning: str, sure: float) -> None:
    """Take a piece in; of two different ones a mic of the whole kit counts, else the first, and neither is sure."""
    piece, _, role = meaning.partition(" ")
    reading.role = reading.role or role
    if reading.piece in ("", piece):
        reading.piece, reading.sure = piece, max(reading.sure, sure)
    elif {reading.piece, piece} == {"tom", "floor"}:
        reading.piece = "floor"
    else:
        if piece in KIT_WIDE and reading.piece not in KIT_WIDE:
            reading.others.add(reading.piece)
            reading.piece = piece
        else:
            reading.others.add(piece)
        reading.sure = GUESS


def _roles(reading: _Reading, words: list[str]) -> None:
    if not reading.piece:
        if "over" in words:
            reading.piece, reading.sure = "overhead", LETTER
        elif any(ROLE_OF.get(word) == "sub" for word in words):
            reading.piece, reading.role, reading.sure = "kick", "sub", NEXT_TO
    for word in words:
        role = ROLE_OF.get(word, "")
        if reading.piece == "kick" and word in ("low", "lo"):
            role = "sub"
        if not role:
            role = ROLE_LETTERS.get(reading.piece, {}).get(word, "")
            reading.below |= reading.piece == "snare" and word == "u"
        if role in _allowed(reading.piece) and not reading.role:
            reading.role = role
        reading.side = reading.side or SIDE_OF.get(word, "")
        reading.height = reading.height or HEIGHT_OF.get(word, "")


def _allowed(piece: str) -> tuple[str, ...]:
    return {"kick": ("in", "out", "sub"), "snare": ("top", "bottom")}.get(piece, ())


def _numbers(reading: _Reading, tokens: list[Token]) -> None:
    """Take the number that stands behind the piece's word (or right before it); model numbers of mics are glued to other words, or larger."""
    words = [token.text for token in tokens]
    for k, token in enumerate(tokens):
        value = token.number
        if value is None and k and PIECE_OF.get(words[k - 1]) in ("tom", "floor"):
            value = ROMAN.get(token.text)
        before = words[k - 1] if k else ""
        if value in TOM_INCHES and (PIECE_OF.get(before) in ("tom", "floor") or before == "t"):
            reading.inches = value
        if value is None or not 1 <= value <= 6:
            continue
        foreign = token.glued and before and not _is_ours(before)
        if not foreign and (reading.number is None or _is_ours(before)):
            reading.number = value


def _is_ours(word: str) -> bool:
    return any(word in table for table in (PIECE_OF, LETTERS, ROLE_OF, SIDE_OF, HEIGHT_OF))


# What the folder says


def _kicks(readings: list[_Reading]) -> list[Recognised]:
    return _by_role("kick", readings, ("in", "out", "sub"))


def _snares(readings: list[_Reading]) -> list[Recognised]:
    """Give each mic of the snare its role. A U is the one under it, but the upper one where another is called L, the lower."""
    lower = [reading for reading in readings if reading.side == "L" and not reading.role]
    upper = [reading for reading in readings if reading.below]
    if len(lower) == len(upper) == 1:
        lower[0].role, upper[0].role = "bottom", "top"
    return _by_role("snare", readings, ("top", "bottom"))


def _by_role(piece: str, readings: list[_Reading], roles: tuple[str, ...]) -> list[Recognised]:
    """Give each mic of a drum its role: those that are named first, the others what is left, in the order of their numbers."""
    named = Counter(reading.role for reading in readings if reading.role)
    free = [role for role in roles if role not in named]
    open_ones = sorted((k for k, r in enumerate(readings) if not r.role), key=lambda k: readings[k].number or 0)
    taken: dict[int, tuple[str, float]] = {}
    for place, k in enumerate(open_ones):
        role = free[place] if place < len(free) else roles[0]
        if len(readings) == 1:
            sure = SHORT  # a drum with one mic: the usual one
        elif len(open_ones) == 1 and role != "sub":
            sure = NEXT_TO
        else:
            sure = GUESS
        taken[k] = role, sure
    out = []
    for k, reading in enumerate(readings):
        role, sure = taken.get(k, (reading.role, SURE))
        if reading.role and named[reading.role] > 1:
            sure = GUESS  # two files that claim the same
        out.append(Recognised(piece, role, "", round(min(sure, reading.sure), 2)))
    return out


def _toms(readings: list[_Reading]) -> list[Recognised]:
    """Give each tom its place: by number, by height or by size, the floor tom last."""
    _by_inches(readings)
    order = sorted(range(len(readings)), key=lambda k: _tom_key(readings[k]))
    racks = [k for k in order if readings[k].piece == "tom"]
    floors = [k for k in order if readings[k].piece == "floor"]
    sures = {k: min(reading.sure, SURE) for k, reading in enumerate(readings)}
    if racks and not floors:
        last = readings[racks[-1]]
        by_number = len(racks) >= 3 and (last.number or 0) >= 3
        by_height = last.height == "low" and (len(racks) > 2 or readings[racks[0]].height != "high" or not last.rack)
        if (by_number or by_height) and not last.rack:
            floors, racks = [racks[-1]], racks[:-1]
            sures[floors[0]] = min(sures[floors[0]], NEXT_TO)
    while len(floors) > 1:  # one piece is the floor tom, the lowest; those before it are further toms
        racks.append(floors.pop(0))
        sures[racks[-1]] = min(sures[racks[-1]], GUESS)
    numbers = _rack_numbers([readings[k] for k in racks])
    out: dict[int, Recognised] = {k: Recognised("floor", "close", "", round(sures[k], 2)) for k in floors}
    for k, (number, sure) in zip(racks, numbers, strict=True):
        out[k] = Recognised(f"tom{number}", "close", "", round(min(sures[k], sure), 2))
    return [out[k] for k in range(len(readings))]


def _by_inches(readings: list[_Reading]) -> None:
    """Take the toms of a folder that are called by their size in their order, the largest for the floor tom where it is of such a size."""
    sized = sorted((reading for reading in readings if reading.inches), key=lambda reading: reading.inches)
    if not sized or any(reading.number for reading in readings):
        return
    racks = [reading for reading in sized if reading.piece == "tom"]
    if all(reading.piece == "tom" for reading in readings) and racks[-1].inches >= FLOOR_INCHES and not racks[-1].rack:
        floor = racks.pop()
        floor.piece, floor.sure = "floor", min(floor.sure, SURE if floor.inches > FLOOR_INCHES else NEXT_TO)
    for number, reading in enumerate(racks, 1):
        reading.number = number


def _tom_key(reading: _Reading) -> tuple:
    return reading.piece == "floor", HEIGHT_ORDER[reading.height], reading.number or 0


def _rack_numbers(racks: list[_Reading]) -> list[tuple[int, float]]:
    """Return each rack tom's number and how sure it is: their own where these are told and differ, else by their order."""
    told = [reading.number for reading in racks]
    if told.count(None) == 1 and len(racks) > 1 and 1 not in told:
        told[told.index(None)] = 1  # Tom, Tom 2: who has no number is the first
    if racks and all(told) and len(set(told)) == len(told) and max(told) <= MOST_TOMS:
        return [(number, SURE) for number in told]
    if len(racks) == 1:
        alone = racks[0].number or 1
        return [
            (min(alone, MOST_TOMS), NEXT_TO if racks[0].number or racks[0].height or racks[0].sure == SURE else GUESS)
        ]
    by_height = len({reading.height for reading in racks}) == len(racks)
    return [(min(place + 1, MOST_TOMS), NEXT_TO if by_height else GUESS) for place in range(len(racks))]
