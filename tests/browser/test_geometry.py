"""The pages' pure geometry, run where it is used."""

import pytest

pytestmark = pytest.mark.browser

MODULE = "const g = await import('/static/js/lib/geometry.js');"


@pytest.fixture(scope="module")
def geometry(chromium, address):
    """Evaluate an expression with the module as g."""
    page = chromium.new_page()
    page.goto(address)
    yield lambda expression: page.evaluate(f"async () => {{ {MODULE} return {expression}; }}")
    page.close()


class TestGeometry:
    """Scales, ticks and texts."""

    def test_scales(self, geometry):
        """There and back; logarithmic for frequencies."""
        assert geometry("g.scale(0, 10, 100, 200).to(5)") == 150
        assert geometry("g.scale(20, 20000, 0, 300, true).to(200)") == pytest.approx(100)
        assert geometry(
            "g.scale(20, 20000, 0, 300, true).back(g.scale(20, 20000, 0, 300, true).to(777))"
        ) == pytest.approx(777)

    def test_ticks(self, geometry):
        """Round figures inside the range."""
        assert geometry("g.ticks(-48, 0, 5)") == [-40, -30, -20, -10, 0]
        assert geometry("g.ticks(0.13, 0.42, 3)") == [0.2, 0.3, 0.4]
        assert geometry("g.octaveTicks(20, 20000).filter((t) => t[1]).length") == 10

    @pytest.mark.parametrize(("low", "high", "digits"), [(0, 100, 0), (3.0, 4.0, 1), (3.96, 4.02, 2), (2.0, 2.004, 4)])
    def test_no_two_figures_read_alike(self, geometry, low, high, digits):
        """However near one looks."""
        values = f"g.ticks({low}, {high}, 10)"
        assert geometry(f"g.digitsOf({values})") == digits
        texts = geometry(f"{values}.map((v) => g.figure(v, g.digitsOf({values})))")
        assert len(set(texts)) == len(texts)

    def test_fit_and_clamp(self, geometry):
        """Values come onto the step and into the range."""
        field = "{low: -10, high: 10, step: 0.5}"
        assert geometry(f"[3.26, 99, -99, 0.1].map((v) => g.fit(v, {field}))") == [3.5, 10, -10, 0]

    def test_nearest(self, geometry):
        """The nearest mark within reach, or none."""
        points = "[{x: 0, y: 0}, {x: 20, y: 0}]"
        assert geometry(f"[g.nearest({points}, 18, 2), g.nearest({points}, 200, 2)]") == [1, -1]

    def test_words(self, geometry):
        """True minus signs, kilohertz and clock times."""
        assert geometry("[g.level(-1.04, 'dBTP'), g.level(-120, 'dBFS'), g.level(-180, 'LUFS')]") == [
            "−1.0 dBTP",
            "−120.0 dBFS",
            "silent",
        ]
        assert geometry("[g.figure(-3.04, 1), g.figure(2, 0, true), g.hertz(2000), g.hertz(50), g.clock(75)]") == [
            "−3.0",
            "+2",
            "2k",
            "50",
            "1:15",
        ]
