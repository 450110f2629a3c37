"""The kit's card of a session, and the kit brought to a school's targets."""

import json

import numpy as np
import pytest
import soundfile

from arkund.core.autokit.levers import BOUNDS
from arkund.core.card.raw import raw_plan
from arkund.core.card.targets import FIGURES
from arkund.core.errors import CancelledError, SettingsError
from arkund.core.plan.revert import set_paths
from arkund.studio.models import Move, Session
from arkund.studio.services import carding, kit_solver, listening, proposing, reverting
from arkund.studio.services.findings import find
from arkund.studio.services.importing import import_folder
from arkund.studio.services.measuring import Measure
from arkund.studio.services.unattended import Unattended
from tests.studio.doing import accept, apply


def half_later(audio: np.ndarray) -> np.ndarray:
    """Return a sound half a sample later, exactly: each of its frequencies turned by what that is of its period."""
    spectrum = np.fft.rfft(audio, 2 * audio.size)
    turns = np.exp(-1j * np.pi * np.fft.rfftfreq(2 * audio.size))
    return np.fft.irfft(spectrum * turns)[: audio.size]


pytestmark = pytest.mark.django_db


class TestCard:
    """Raw and now."""

    def test_before_anything(self, session):
        """With nothing set what changes against the raw kit is nothing, but for levels and places."""
        rows = {row.figure.key: row for row in carding.card(Measure(session), "punchy")}
        assert list(rows) == [figure.key for figure in FIGURES]
        assert rows["bleed"].value == pytest.approx(0.0, abs=0.05)
        assert rows["attack_kick"].value == rows["attack_snare"].value == pytest.approx(0.0, abs=0.6)
        assert rows["bleed_toms"].off > 10.0
        lost = {row["key"]: row for row in carding.told(carding.lost(Measure(session), "punchy"))}
        assert (lost["tail_cut"]["said"], lost["tail_cut"]["off"], lost["steady"]["value"]) == ("not cut", 0.0, 0.0)
        assert lost["width"]["value"] is None  # one overhead: what width there is, the pans of close mics make

    def test_unknown_school(self, session):
        """Said with those that there are."""
        with pytest.raises(SettingsError, match="expected one of natural, punchy, heavy"):
            carding.card(Measure(session), "loud")


def value_at(plan: dict, path: str) -> float:
    """Return a number of a Plan's plain data, tools and strips by their ids."""
    node = plan
    for step in path.split(".")[1:]:
        node = next(each for each in node if each["id"] == step) if isinstance(node, list) else node[step]
    return node


def mix_of(plan) -> dict:
    """Return a Plan's mixing half, its mics by their names without numbers in front, and without their ids."""
    data = plan.to_json()
    mics = {
        mic["name"].lstrip("0123456789 "): {k: v for k, v in mic.items() if k not in ("id", "name")}
        for mic in data["mics"]
    }
    return {"mics": mics} | {field: data[field] for field in ("groups", "paths", "kit")}


def numbers_of(node, path: str = ""):
    """Yield each number of plain data with its path."""
    if isinstance(node, bool) or node is None or isinstance(node, str):
        return
    if isinstance(node, int | float):
        yield path, float(node)
        return
    for key, each in node.items() if isinstance(node, dict) else enumerate(node):
        yield from numbers_of(each, f"{path}.{key}")


class TestSettled:
    """The one click."""

    def test_brought_there(self, session):
        """Most figures hold, and every limit of what it may cost; each deed is a Move that says what it serves, within the style's bounds; the raw kit
        stays raw.
        """
        proposing.propose_all(session.pk)
        measure = Measure(Session.objects.get(pk=session.pk))
        rows = carding.card(measure, "punchy")
        off = [row.figure.key for row in rows if row.value is not None and row.off > 0.05]
        assert len(off) <= 4, off
        assert not {"headroom", "attack_kick", "bleed_toms", "contrast", "cymbals"} & set(off)
        beyond = [row.figure.key for row in carding.lost(measure, "punchy") if row.value is not None and row.off > 0.05]
        assert set(beyond) <= {
            "floor"
        }  # with one overhead, what brings the cymbals up brings up what lies between hits
        told = session.moves.filter(step="kit", measured__contains="Noise floor between hits")
        assert told.exists() == bool(beyond)
        deeds = list(session.moves.filter(state=Move.DONE, step="kit"))
        assert all("→" not in move.title for move in deeds)
        assert sum(move.measured.startswith("For ") for move in deeds) >= len(deeds) - 1
        before = measure.plan
        raw = raw_plan(before)
        assert not any(mic.tools or mic.level_db or mic.trim_db for mic in raw.mics)
        assert not raw.paths
        assert raw.kit.tools == ()
        assert listening.without(before, "kit") == raw

    def test_what_counts_as_set_by_hand(self, session, monkeypatch):
        """What somebody typed; not what was applied as proposed, by a job or by hand. Worked on again, the kit keeps its headroom."""
        accept(session.pk, next(f for f in find("blend", Measure(session)) if f.key == "blend:mix"))
        apply(session.pk, {"groups.snare.level_db": -3.0}, step="blend", title="by hand")
        monkeypatch.setattr(kit_solver, "SWEEPS", 0)
        for _ in range(2):
            kit_solver.settle(Unattended(session.pk))
            rows = carding.card(Measure(Session.objects.get(pk=session.pk)), "punchy")
            assert next(row for row in rows if row.figure.key == "headroom").off == 0.0
        assert reverting.set_by_hand(session) == {"groups.snare.level_db"}

    @pytest.mark.long
    def test_what_was_set_by_hand_stays(self, session):
        """The bounds are counted from where the kit was begun, however often that is asked for."""
        apply(session.pk, {"groups.snare.level_db": -3.0}, step="blend", title="by hand")
        for _ in range(2):
            kit_solver.settle(Unattended(session.pk))
        plan = Session.objects.get(pk=session.pk).plan
        assert next(group for group in plan.groups if group.id == "snare").level_db == -3.0
        most_db = BOUNDS["punchy"].fader
        assert all(abs(group.level_db) <= most_db for group in plan.groups)
        assert all(abs(mic.level_db) <= most_db for mic in plan.mics)

    @pytest.mark.long
    @pytest.mark.xfail(
        reason="with one overhead half of what is wanted is out of reach, and two mixes are as good: they miss 5.8 and 6.1 altogether",
        strict=False,
    )
    def test_however_it_was_recorded(self, session, folder, little, tmp_path):
        """The same files come to the same Plan, to the byte; 6 dB softer and half a sample later they come to the same deeds and figures."""
        later = tmp_path / "softer and later"
        later.mkdir()
        for name, audio in little.audio.items():
            soundfile.write(later / f"{name}.wav", 0.5012 * half_later(audio), little.sample_rate_hz, subtype="PCM_24")
        cards, plans = [], []
        for each in (session, import_folder(folder, bpm=120.0), import_folder(later, bpm=120.0)):
            proposing.propose_all(each.pk)
            measure = Measure(Session.objects.get(pk=each.pk))
            cards.append(carding.card(measure, "punchy"))
            plans.append(json.dumps(measure.plan.to_json()))
        assert plans[0] == plans[1]
        pairs = zip(cards[0], cards[2], strict=True)
        apart = {a.figure.key: abs(a.value - b.value) for a, b in pairs if a.value is not None}
        assert max(apart.values()) < 0.3, apart
        one, other, far = json.loads(plans[0]), json.loads(plans[2]), []
        for path in set_paths(one, other, "plan"):
            a, b = (value_at(plan, path) for plan in (one, other))
            softer_db = 6.0 if path.endswith(".trim_db") else 0.0
            far.append((abs(b - a - softer_db), path))
        assert sum(by > 0.5 for by, _ in far) <= 1, far  # one fader that hardly counts may be moved or not
        assert max(far)[0] < 1.0, far

    @pytest.mark.long
    def test_mics_in_another_order(self, session, little, tmp_path):
        """The same files under names that sort the other way round come to the same deeds and the same figures: mics stand in the order of the work."""
        for number, (name, audio) in enumerate(little.audio.items()):
            path = tmp_path / f"{90 - number} {name}.wav"
            soundfile.write(path, audio, little.sample_rate_hz, subtype="PCM_24")
        cards, mixes = [], []
        for each in (session, import_folder(tmp_path, bpm=120.0)):
            proposing.propose_all(each.pk)
            measure = Measure(Session.objects.get(pk=each.pk))
            cards.append(carding.card(measure, "punchy"))
            mixes.append(mix_of(measure.plan))
        apart = {a.figure.key: abs(a.value - b.value) for a, b in zip(*cards, strict=True) if a.value is not None}
        assert max(apart.values()) < 0.3, apart
        one, other = (dict(numbers_of(mix)) for mix in mixes)
        assert one.keys() == other.keys()
        far = {path: (one[path], other[path]) for path in one if abs(one[path] - other[path]) > 0.5}
        assert not far

    @pytest.mark.long
    def test_a_heavy_kit_is_cleaned_tight(self, session):
        """Its toms are silent between their hits, without anybody choosing a look; one that was chosen stays."""
        apply(session.pk, {"school": "heavy"}, step="kit", title="heavy")
        proposing.propose_all(session.pk)
        session.refresh_from_db()
        assert session.plan.cleaning.look == "tight"
        rows = {row.figure.key: row for row in carding.card(Measure(session), "heavy")}
        assert rows["bleed_toms"].off == 0.0

    def test_cancelled(self, session):
        """Between two rounds; nothing is left behind."""
        before = session.plan
        with pytest.raises(CancelledError, match="can be undone"):
            kit_solver.settle(Unattended(session.pk), cancelled=lambda: True)
        assert Session.objects.get(pk=session.pk).plan == before

    @pytest.mark.long
    @pytest.mark.parametrize("gone", ["all but one", "overhead", "kick"])
    def test_without(self, session, gone):
        """No kick mic, no overheads, one mic alone: what can be done is done, nothing breaks."""
        mics = session.plan.mics
        muted = [
            mic.id
            for k, mic in enumerate(mics)
            if mic.piece == gone or mic.role == gone or (gone == "all but one" and k != 2)
        ]
        apply(session.pk, {f"mics.{mic}.mute": True for mic in muted}, step="load", title="gone")
        kit_solver.settle(Unattended(session.pk))
        rows = carding.card(Measure(Session.objects.get(pk=session.pk)), "punchy")
        assert next(row for row in rows if row.figure.key == "headroom").off <= 0.2


def test_the_command_line(session, capsys):
    """Figures by name, for the session's school and another one."""
    from arkund.studio.cli.main import main

    main(["kit", str(session.pk), "--json"], standalone_mode=False)
    told = json.loads(capsys.readouterr().out)
    assert told["school"] == "punchy"
    assert {"key", "raw", "now", "value", "target", "off"} <= set(told["figures"][0])
    lost = {row["key"]: row for row in told["lost"]}
    assert lost["top"]["target"] == [-3.0, 3.0]
    assert all(row["now"] == row["raw"] for row in lost.values())  # nothing was done yet
    main(["kit", str(session.pk), "--school", "heavy"], standalone_mode=False)
    assert "peak-to-loudness ratio" in capsys.readouterr().out
