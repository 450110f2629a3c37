"""Every page as an independent checker sees it (axe-core): nothing that WCAG 2.2 A and AA forbid, in the dim room and in daylight."""

from pathlib import Path

import pytest

from arkund.studio.steps import STEPS
from tests.browser.tap import ready
from tests.seeds import seeds

pytestmark = pytest.mark.browser

CHECKER = (Path(__file__).parent / "vendor" / "axe.min.js").read_text()
RULES = "axe.run({runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa'], rules: {'empty-table-header': {enabled: true}}})"
COLOURS = "axe.run({runOnly: {type: 'rule', values: ['color-contrast']}})"  # what daylight may change
OTHERS = ("logbook", "sheet", "ear", "reckon")


@pytest.fixture
def looker(chromium):
    """A page that lets the checker in beside our strict policy."""
    context = chromium.new_context(viewport={"width": 1280, "height": 800}, bypass_csp=True)
    page = context.new_page()
    page.set_default_timeout(60_000)
    yield page
    context.close()


def violations(page, where: str, lights: tuple[bool, ...]) -> list[str]:
    """Return what the checker says of a page, in the dim room and in daylight."""
    page.goto(where)
    if "/s/" in where and not where.rstrip("/").endswith(OTHERS):
        ready(page)
    page.evaluate("() => document.querySelectorAll('details').forEach((each) => { each.open = true; })")
    page.add_script_tag(content=CHECKER)
    out = []
    for light in lights:
        page.evaluate("(light) => document.documentElement.toggleAttribute('data-light', light)", light)
        found = page.evaluate(COLOURS if light else RULES)
        assert found["passes"], where  # it looked at something
        out += [f"{where}: {v['id']}: {node['html'][:160]}" for v in found["violations"] for node in v["nodes"]]
    return out


class TestEveryPage:
    """No violation of levels A and AA."""

    @pytest.mark.parametrize("lights", seeds((False,), (False, True)))
    def test_start_page_and_steps(self, looker, address, looked_at, lights):
        """The start page, every step, what was done, the logbook, the recall sheet, the ear room and what is reckoned."""
        wheres = [address, *(f"{looked_at}/{name}/" for name in (*STEPS, *OTHERS, "account"))]
        assert [fault for where in wheres for fault in violations(looker, where, lights)] == []
