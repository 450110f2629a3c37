"""A file's name in words and numbers, and what in a folder's names says nothing: titles that all share, counters that rise through it."""

import itertools
import re
import unicodedata
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from arkund.core.kit.words import KNOWN, LETTERS, PHRASE_OF, PIECE_OF, ROLE_LETTERS

AUDIO_ENDING = re.compile(r"\.(wave?|rf64|bw64|w64|aif|aiff|aifc|flac)$", re.IGNORECASE)
FEWEST_SHARED = 3  # files that tell what they share
COUNTED_SHARE = 0.75  # of the files that carry a number in one place, for a counter
SPREAD = 2  # places that a counter may go on by from one file to the next, on the average
ROUNDS = 4  # a name has a title, a take and a counter at most on one side
MOST_WORDS = 40  # of a name that are looked at


@dataclass(frozen=True, slots=True)
class Token:
    """A word or a number of a name; ``glued`` to what stands before it without anything between."""

    text: str
    glued: bool = False

    @property
    def number(self) -> int | None:
        """Its value, None for a word."""
        return int(self.text) if self.text.isdecimal() else None


def tokens_of(file_name: str) -> list[Token]:
    """Return a name's words, lower case and without accents, and its numbers; words written as one are parted where all parts are known."""
    stem = AUDIO_ENDING.sub("", file_name.rsplit("/", 1)[-1])
    plain = unicodedata.normalize("NFKD", stem.replace("ß", "ss").replace("ẞ", "SS")).encode("ascii", "ignore").decode()
    out: list[Token] = []
    for run in re.finditer(r"[A-Za-z]+|\d+", plain):
        glued = run.start() > 0 and plain[run.start() - 1].isalnum()
        parts = [run[0]] if run[0].isdecimal() else _words(run[0])
        out += [Token(part, glued or k > 0) for k, part in enumerate(parts)]
    return out[:MOST_WORDS]


def _words(run: str) -> list[str]:
    """Part a run of letters at changes of case, and into known words."""
    whole = run.lower()
    if whole in KNOWN:
        return [whole]
    parted = _parted(whole)
    if parted:
        return parted
    humps = re.findall(r"[A-Z]+(?![a-z])|[A-Z]?[a-z]+", run)
    return [part for hump in humps for part in (_parted(hump.lower()) or [hump.lower()])]


def _parted(word: str) -> list[str]:
    """Return the known words that a run-together one is made of, a piece among them; nothing where it is made of others."""
    for cut in range(len(word) - 1, 1, -1):
        head, tail = word[:cut], word[cut:]
        if head not in KNOWN:
            continue
        if tail in KNOWN and (head in PIECE_OF or tail in PIECE_OF):
            return [head, tail]
        if head in PIECE_OF and tail in ROLE_LETTERS.get(PIECE_OF[head], {}):
            return [head, tail]
        rest = _parted(tail) if len(tail) > 3 else []
        if rest:
            return [head, *rest]
    return []


def meaningful(names: Sequence[list[Token]]) -> list[list[Token]]:
    """Return the names of one folder without what says nothing there."""
    out = [list(name) for name in names]
    for _ in range(ROUNDS):
        before = [len(name) for name in out]
        out = _without_shared(out)
        out = _without_counter(out, 0)
        out = _without_counter(out, -1)
        if [len(name) for name in out] == before:
            break
    return out


def _without_shared(names: list[list[Token]]) -> list[list[Token]]:
    """Drop what all names begin or end with, as long as most of them still say which drum they are."""
    if len(names) < FEWEST_SHARED:
        return names
    for at in (0, -1):
        while all(len(name) > 1 for name in names) and len({name[at].text for name in names}) == 1:
            rest = [name[1:] if at == 0 else name[:-1] for name in names]
            if sum(map(_says_piece, rest)) < max(sum(map(_says_piece, names)) - 1, (len(names) + 1) // 2):
                break
            names = rest
    return names


def _without_counter(names: list[list[Token]], at: int) -> list[list[Token]]:
    """Drop the number at one end of the names where it counts files: nearly all have one, each another; a zero before it says so, too."""
    numbers = [name[at] for name in names if _may_count(name, at)]
    padded = sum(token.text[0] == "0" and not (at and token.glued) for token in numbers)
    most = Counter(token.text for token in numbers).most_common(1)
    values = [token.number for token in numbers]
    rises = bool(values) and max(values) - min(values) <= SPREAD * len(values)  # the inches of drums lie further apart
    counts = (
        rises
        and len(numbers) >= COUNTED_SHARE * len(names)
        and len(names) > 1
        and most[0][1] <= max(len(numbers) // 4, 1)
    )
    alone = len(names) == 1 and at == 0 and numbers
    if not (counts or alone or (at == 0 and padded) or (at == -1 and padded > len(numbers) // 2)):
        return names
    out = []
    for name in names:
        drops = _may_count(name, at) and (counts or alone or name[at].text[0] == "0")
        out.append((name[1:] if at == 0 else name[:-1]) if drops else name)
    return out


def _may_count(name: list[Token], at: int) -> bool:
    """Say whether a name has a number at one end that could count files; one that is glued to a letter is a drum's (T1) or a microphone's model."""
    if len(name) < 2 or name[at].number is None:
        return False
    return at == 0 or not (name[at].glued and len(name[at - 1].text) == 1)


def _says_piece(name: list[Token]) -> bool:
    words = [token.text for token in name]
    pairs = itertools.pairwise(words)
    return any(word in PIECE_OF or word in LETTERS for word in words) or any(pair in PHRASE_OF for pair in pairs)
