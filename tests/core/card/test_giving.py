"""What gives way to figures that are further off than in the raw kit, and how far."""

import pytest

from arkund.core.card.giving import given_way
from tests.core.card.test_levers import KEYS, middle


@pytest.mark.parametrize(
    ("now", "raw", "given"),
    [
        ({"contrast": -1.0, "cymbals": -15.0}, {"cymbals": -14.0}, {"cymbals": 0.7}),  # to its edge and no further
        ({"contrast": -1.0, "cymbals": -15.0}, {"cymbals": -22.0}, {"cymbals": 1.5}),  # still nearer than raw
        ({"contrast": -1.0, "cymbals": -22.0}, {"cymbals": -22.0}, {"cymbals": -0.3, "contrast": -1.3}),
        (
            {"contrast": -1.0, "cymbals": -18.0},
            {"cymbals": -14.0},
            {"cymbals": -2.3, "contrast": -1.3},
        ),  # gave too much
        ({"contrast": 0.6, "cymbals": -16.4}, {"cymbals": -15.0}, {"contrast": 0.3}),  # gives what it is nearer
        ({"contrast": 0.2, "cymbals": -15.0}, {"cymbals": -22.0}, {"cymbals": 0.0}),  # no further off: it stays
        ({"contrast": 0.8, "cymbals": -15.0}, {"cymbals": -22.0}, {}),  # short, and well nearer than raw
        ({"contrast": 2.0, "cymbals": -15.0}, {"cymbals": -22.0}, {}),
        ({"contrast": -1.0}, {}, {}),
        ({"contrast": -1.0, "density": 14.0}, {"density": 20.0}, {"density": -1.5}),
        ({"attack": -2.0, "density": 14.0}, {"density": 16.0}, {"density": -1.7}),
        ({"attack": 6.0, "density": 14.0}, {"density": 20.0}, {}),  # too sharp already
        ({"ghosts": 8.0, "density": 14.0}, {"density": 20.0}, {"density": -3.0}),
        ({"kick": -3.0, "density": 14.0}, {"density": 20.0}, {"density": -1.5}),  # rounded off
        ({"kick": 3.0, "density": 14.0}, {"density": 20.0}, {}),
    ],
)
def test_giving_way(now, raw, given):
    """Hats and ride go down, peaks come back, for what is further off than in the raw kit; neither gets further off than it was."""
    figures = middle("punchy") | {"cymbals": None, "density": None} | now
    before = dict.fromkeys(KEYS, 0.0) | {"cymbals": None, "density": None} | raw
    missed = {"contrast": -2.0, "cymbals": -3.0}
    assert given_way(missed, figures, before, "punchy") == missed | {k: pytest.approx(v) for k, v in given.items()}
