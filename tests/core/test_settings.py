"""Settings: ranges are checked at the edge, plain data comes and goes unchanged."""

from dataclasses import dataclass

import pytest

from arkund.core.errors import SettingsError
from arkund.core.settings import Settings, choice, number, read_json, shown, text, typed


@dataclass(frozen=True, slots=True, kw_only=True)
class Inner(Settings):
    level_db: float = number(0.0, -10.0, 10.0, unit="dB")
    count: int = number(1, 0, 5)


@dataclass(frozen=True, slots=True, kw_only=True)
class Outer(Settings):
    name: str = text("x", longest=4)
    kind: str = choice("a", ("a", "b"))
    on: bool = False
    inner: Inner = Inner()
    many: tuple[Inner, ...] = ()
    maybe: float | None = number(None, 0.0, 1.0)


class TestRanges:
    """A value outside of what its field declares is refused with its name, range and value."""

    @pytest.mark.parametrize("value", [-10.0, 0, 10.0])
    def test_bounds_are_allowed(self, value):
        """The range is inclusive."""
        assert Inner(level_db=value).level_db == value

    @pytest.mark.parametrize("value", [-10.1, 11, 1e9])
    def test_outside_is_refused(self, value):
        """The text names the field, the unit and the range."""
        with pytest.raises(SettingsError, match=r"level_db: .* dB is outside -10 to 10 dB"):
            Inner(level_db=value)

    @pytest.mark.parametrize("value", [float("nan"), float("inf"), "3", True, None, [1]])
    def test_what_is_no_number_is_refused(self, value):
        """NaN, infinity, texts, booleans and nothing are no numbers."""
        with pytest.raises(SettingsError, match="level_db"):
            Inner(level_db=value)

    def test_whole_numbers_stay_whole(self):
        """An int field takes no fraction."""
        with pytest.raises(SettingsError, match="whole number"):
            Inner(count=1.5)

    def test_choice_and_text(self):
        """Choices name their options, texts their length."""
        with pytest.raises(SettingsError, match="one of a, b"):
            Outer(kind="c")
        with pytest.raises(SettingsError, match="at most 4"):
            Outer(name="abcde")

    def test_optional_number(self):
        """None is allowed only where the annotation says so."""
        assert Outer(maybe=None).maybe is None
        with pytest.raises(SettingsError, match="maybe"):
            Outer(maybe=2.0)


class TestJson:
    """to_json and from_json are inverse; unknown keys and wrong types are refused."""

    def test_there_and_back(self):
        """Nested settings and tuples survive."""
        made = Outer(name="k", on=True, inner=Inner(level_db=3.0), many=(Inner(count=2), Inner()))
        assert Outer.from_json(made.to_json()) == made

    def test_unknown_key(self):
        """The text lists what is known."""
        with pytest.raises(SettingsError, match=r"inner: unknown key 'q'; known are count, level_db"):
            Outer.from_json({"inner": {"q": 1}})

    @pytest.mark.parametrize(
        "data", [{"on": 1}, {"on": "yes"}, {"name": 3}, {"many": {}}, {"many": [3]}, {"inner": None}, {"inner": []}]
    )
    def test_wrong_types(self, data):
        """Plain data of the wrong shape never becomes settings."""
        with pytest.raises(SettingsError):
            Outer.from_json(data)

    def test_not_an_object(self):
        """Only objects can become settings."""
        with pytest.raises(SettingsError, match="expected an object"):
            Outer.from_json([1, 2])

    def test_ranges_are_stated_once(self):
        """What a slider needs comes from the field."""
        assert Inner.ranges()["level_db"].unit == "dB"
        assert set(Inner.ranges()) == {"level_db", "count"}


class TestShown:
    """A wrong value in an error."""

    @pytest.mark.parametrize("value", ["x" * 4_000_000, list(range(10**6)), {"a": "y" * 10**6}])
    def test_never_whole(self, value):
        """It is told by its beginning."""
        assert len(shown(value)) <= 82
        with pytest.raises(SettingsError) as said:
            typed(float, value, "gate.threshold_db")
        assert len(str(said.value)) < 200


class TestReadJson:
    """Plain data that can be stored and sent again."""

    @pytest.mark.parametrize(
        "text", ["NaN", "[Infinity]", '{"a": -Infinity}', '"\\ud800"', '["\\uDC00x"]', "{", "\xff"]
    )
    def test_refused(self, text):
        """What JSON does not know, and halves of characters."""
        with pytest.raises(ValueError):
            read_json(text.encode("latin-1"))

    def test_taken(self):
        """Whole characters beyond the basic plane, as escapes or as they are."""
        assert read_json(b'["\\ud83e\\udd41", 1e5, null]') == ["\N{DRUM WITH DRUMSTICKS}", 1e5, None]
        assert read_json('"\N{DRUM WITH DRUMSTICKS}"') == "\N{DRUM WITH DRUMSTICKS}"
