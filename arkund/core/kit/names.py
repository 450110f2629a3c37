"""What a file's name says about its mic: piece, role, side and how sure that is."""

import re
import unicodedata
from dataclasses import dataclass

# Spellings, lower case, digits split off. Longer spellings are tried first.
_PIECE_WORDS = {
    "kick": "kick kik kck kk kd bd bassdrum bass_drum basedrum gr grosse bombo",
    "snare": "snare snr sn sd sna snaredrum caja",
    "hihat": "hihat hi_hat hat hats hh hihats",
    "floor": "floor ft flr floortom fltom lowtom standtom",
    "tom": "tom toms rack rt racktom rtom t",
    "ride": "ride rd rid",
    "crash": "crash cr crsh china splash",
    "overhead": "overhead overheads oh ohs ovh over cymbals cym oheads",
    "room": "room rooms rm amb ambience ambient hall far rms",
    "talkback": "talkback tb talk trash crush floormic",
}
_ROLE_WORDS = {
    "in": "in inside inner beater",
    "out": "out outside outer front port reso resonant",
    "sub": "sub low",
    "top": "top tp up upper over batter",
    "bottom": "bottom btm bot bt under below wires dn",
}
_SIDE_WORDS = {"L": "l left lt lft li links", "R": "r right rt rgt rechts"}
_DEFAULT_ROLE = {"kick": "in", "snare": "top", "hihat": "spot", "ride": "spot", "crash": "spot"}
_SURE, _GOOD, _FAIR, _NONE = 0.98, 0.9, 0.6, 0.0


@dataclass(frozen=True, slots=True)
class Recognised:
    """What a name says; confidence 0 means that it says nothing."""

    piece: str
    role: str
    side: str  # "L", "R" or ""
    confidence: float


def recognise(file_name: str) -> Recognised:
    """Return piece, role and side for a file's name in any usual spelling."""
    tokens = _tokens(file_name)
    piece, sure = _find(tokens, _PIECE_WORDS)
    if piece is None:
        return Recognised("kit", "room", "", _NONE)
    role, role_sure = _find([t for t in tokens if t not in _PIECE_WORDS[piece].split()], _ROLE_WORDS)
    side, _ = _find(tokens, _SIDE_WORDS)
    number = next((int(t) for t in tokens if t.isdecimal() and 1 <= int(t) <= 9), None)
    if piece in ("overhead", "room", "talkback"):
        return Recognised("kit", piece, side or "", sure)
    if piece == "tom":
        short = "t" in tokens and not {"tom", "toms", "rack", "racktom"} & set(tokens)
        if short and number is None:
            return Recognised("tom1", "close", "", _FAIR / 2)
        if "low" in tokens or "lo" in tokens:
            return Recognised("floor", "close", "", _FAIR)
        confidence = sure if number else _FAIR
        return Recognised(f"tom{min(number or 1, 4)}", "close", "", confidence)
    if piece == "floor":
        return Recognised("floor", "close", "", sure)
    if piece in ("kick", "snare"):
        allowed = ("in", "out", "sub") if piece == "kick" else ("top", "bottom")
        if role not in allowed:
            return Recognised(piece, _DEFAULT_ROLE[piece], "", min(sure, _GOOD))
        return Recognised(piece, role, "", min(sure, role_sure))
    return Recognised(piece, "spot", "", sure)


def _tokens(file_name: str) -> list[str]:
    stem = file_name.rsplit("/", 1)[-1].rsplit(".", 1)[0]
    plain = unicodedata.normalize("NFKD", stem).encode("ascii", "ignore").decode().lower()
    plain = plain.replace("bass drum", "bassdrum").replace("hi hat", "hihat").replace("hi-hat", "hihat")
    plain = plain.replace("floor tom", "floortom").replace("rack tom", "racktom").replace("talk back", "talkback")
    tokens = re.findall(r"[a-z]+|\d+", plain)
    out = []
    for token in tokens:
        out += _split(token)
    return out


def _words(table: dict[str, str]) -> dict[str, str]:
    return {word: key for key, words in table.items() for word in words.split()}


_ALL_WORDS = set(_words(_PIECE_WORDS)) | set(_words(_ROLE_WORDS)) | set(_words(_SIDE_WORDS))


def _split(token: str) -> list[str]:
    """Split run-together spellings such as 'kickin', 'sntop' or 'ohl'."""
    if token in _ALL_WORDS or token.isdecimal():
        return [token]
    for cut in range(len(token) - 1, 1, -1):
        head, tail = token[:cut], token[cut:]
        known = head in _words(_PIECE_WORDS) or tail in _words(_PIECE_WORDS)
        if known and head in _ALL_WORDS and tail in _ALL_WORDS:
            return [head, tail]
    return [token]


def _find(tokens: list[str], table: dict[str, str]) -> tuple[str | None, float]:
    best, best_sure = None, _NONE
    words = _words(table)
    for token in tokens:
        if token in words:
            sure = _SURE if len(token) > 1 else _GOOD
            if sure > best_sure:
                best, best_sure = words[token], sure
    return best, best_sure
