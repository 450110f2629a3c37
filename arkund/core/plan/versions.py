"""Plans as they were stored, of whatever schema, as Plans of today."""

from typing import Any

from arkund.core.plan.plan import Plan


def read_plan(data: dict[str, Any]) -> Plan:
    """Return a Plan from its stored form. Raises SettingsError for what is no Plan."""
    return Plan.from_json(data)
