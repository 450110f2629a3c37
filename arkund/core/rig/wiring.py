"""What goes where: which group a mic belongs to, what a key refers to, and that nothing goes in a circle."""

from collections.abc import Collection, Iterator, Sequence
from graphlib import CycleError, TopologicalSorter

from arkund.core.errors import SettingsError
from arkund.core.kit.pieces import group_of, is_close
from arkund.core.rig.strips import MOST_STRIPS, Group, Kit, Path, once


def group_id(mic, groups: Sequence[Group]) -> str:
    """Return the id of the group that a mic (anything with .group, .piece and .role) goes into, "" for none: straight to the kit."""
    wanted = mic.group or group_of(mic.piece, mic.role)
    return wanted if any(group.id == wanted for group in groups) else ""


def check(mics: Sequence, groups: Sequence[Group], paths: Sequence[Path], kit: Kit, struck: Collection[str]) -> None:
    """Raise SettingsError where a strip refers to one that is not there, where an id stands twice, or where strips feed each other in a circle."""
    for where, strips in (("groups", groups), ("paths", paths)):
        once(where, [strip.id for strip in strips])
        if len(strips) > MOST_STRIPS:
            raise SettingsError(f"{where}: at most {MOST_STRIPS}, got {len(strips)}.")
    known_groups, known_paths = {group.id for group in groups}, {path.id for path in paths}
    for mic in mics:
        if mic.group and mic.group not in known_groups:
            _missing(f"mics.{mic.id}.group", "group", mic.group, known_groups)
    for path in paths:
        if path.into and path.into not in known_groups:
            _missing(f"paths.{path.id}.into", "group", path.into, known_groups)
    for where, strip in _all(mics, groups, paths):
        for send in strip.sends:
            if send.id not in known_paths:
                _missing(f"{where}.sends", "path", send.id, known_paths)
    for where, strip in (*_all((), groups, paths), ("kit", kit)):
        for tool in strip.tools:
            if tool.drawn:
                raise SettingsError(
                    f"{where}.tools.{tool.id}: {tool.kind}: belongs to a mic, whose own hits it follows."
                )
    keyed = list(_keys(mics, groups, paths, kit))
    for where, of in keyed:
        _check_key(where, of, mics, known_groups, struck)
    if keyed or any(strip.sends for strip in (*groups, *paths)) or any(path.into for path in paths):
        _check_circles(mics, groups, paths)


def _all(mics, groups, paths) -> Iterator[tuple[str, object]]:
    for kind, strips in (("mics", mics), ("groups", groups), ("paths", paths)):
        yield from ((f"{kind}.{strip.id}", strip) for strip in strips)


def _keys(mics, groups, paths, kit) -> Iterator[tuple[str, str]]:
    """Return where a tool listens to something else, and to what."""
    for where, strip in (*_all(mics, groups, paths), ("kit", kit)):
        for tool in strip.tools:
            if tool.listens_to:
                yield f"{where}.tools.{tool.id}.key.of", tool.listens_to


def _missing(where: str, kind: str, name: str, known: set[str]) -> None:
    there = ", ".join(sorted(known)) or "none"
    raise SettingsError(f"{where}: no {kind} {name!r}; there are {there}.")


def _check_key(where: str, of: str, mics, groups: set[str], struck: Collection[str]) -> None:
    kind, _, name = of.partition(":")
    if kind == "mic":
        known = {mic.id for mic in mics}
    elif kind == "group":
        known = groups
    elif kind == "drum":
        known = {mic.piece for mic in mics if is_close(mic.role)}
    elif kind == "hits":
        known = set(struck)
    else:
        raise SettingsError(f"{where}: expected mic:, drum:, group: or hits: with a name, got {of!r}.")
    for part in name.split("-") if kind == "hits" else (name,):
        if part in known:
            continue
        _missing(where, {"drum": "drum with a mic of its own", "hits": "kept strikes of"}.get(kind, kind), part, known)


def feeds_of(mics, groups, paths) -> dict[str, set[str]]:
    """Return for each strip (``mic:ID``, ``group:ID``, ``path:ID``) those that must be rendered before it."""
    before: dict[str, set[str]] = {
        **{f"group:{group.id}": set() for group in groups},
        **{f"path:{path.id}": set() for path in paths},
    }
    for kind, strips in (("mic", mics), ("group", groups), ("path", paths)):
        for strip in strips:
            name = f"{kind}:{strip.id}"
            mine = before.setdefault(name, set())
            for send in strip.sends:
                before[f"path:{send.id}"].add(name)
            for tool in strip.tools:
                if (tool.listens_to or "").startswith("group:"):
                    mine.add(tool.listens_to)
    for mic in mics:
        if into := group_id(mic, groups):
            before[f"group:{into}"].add(f"mic:{mic.id}")
    for path in paths:
        if path.into:
            before[f"group:{path.into}"].add(f"path:{path.id}")
    return before


def _check_circles(mics, groups, paths) -> None:
    try:
        TopologicalSorter(feeds_of(mics, groups, paths)).prepare()
    except CycleError as error:
        names = {f"{kind}:{s.id}": s.name for kind, strips in (("mic", mics), ("group", groups), ("path", paths)) for s in strips}  # fmt: skip
        circle = " → ".join(names[name] for name in error.args[1])
        raise SettingsError(
            f"rig: strips feed or key each other in a circle: {circle}. Take one of these away."
        ) from None
