"""What the doctor says."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Complaint:
    """Something that is not as it should be, and what was done about it or is to be done by hand."""

    what: str
    remedy: str
    repaired: bool
