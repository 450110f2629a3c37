"""Template tags that are available in every template."""

import json

from django import template
from django.utils.html import format_html
from django.utils.safestring import mark_safe

register = template.Library()


@register.filter
def db(value, digits: int = 1) -> str:
    """Show a level with its sign and a fixed number of digits."""
    return "–" if value is None else f"{float(value):+.{digits}f}".replace("-", "−")


@register.simple_tag
def data(name: str, value) -> str:
    """Put plain data into the page for its script, safe in any content."""
    text = json.dumps(value).replace("<", "\\u003c").replace(">", "\\u003e").replace("&", "\\u0026")
    return format_html('<script type="application/json" id="{}">{}</script>', name, mark_safe(text))  # noqa: S308 (escaped above)
