"""Templates: kept from a session, and what a new one starts from."""

from django.db.models import QuerySet

from arkund.core.errors import SettingsError
from arkund.core.plan.template import changes_of, template_of
from arkund.studio.models import Move, Session, Template
from arkund.studio.services import moves

MOST_NAME = Template._meta.get_field("name").max_length
NAMELESS = "name: a template needs a name."


def of_user(user_id: int | None) -> QuerySet[Template]:
    """Return a user's templates by name; without logins those of this machine."""
    return Template.objects.filter(user_id=user_id)


def keep(session: Session, name: str, user_id: int | None = None) -> Template:
    """Keep a session's settings under a name; a former template of that name is replaced."""
    made, _ = Template.objects.update_or_create(
        name=clean_name(name, MOST_NAME, NAMELESS), user_id=user_id, defaults={"data": template_of(session.plan)}
    )
    return made


def rename(template: Template, name: str) -> None:
    """Give a template another name; raises SettingsError where another one has it."""
    name = clean_name(name, MOST_NAME, NAMELESS)
    if of_user(template.user_id).filter(name=name).exclude(pk=template.pk).exists():
        raise SettingsError(f"name: there is already a template {name!r}; delete it first or choose another name.")
    template.name = name
    template.save(update_fields=["name"])


def clean_name(name: str, longest: int, refused: str) -> str:
    """Return a name as it is kept: what can be printed of it, no longer than may be. Raises SettingsError, in the words that are given, where none is left."""
    name = "".join(c for c in name if c.isprintable()).strip()[:longest]
    if not name:
        raise SettingsError(refused)
    return name


def named(name: str, user_id: int | None = None) -> Template:
    """Return a template by its name; raises SettingsError that lists the known ones."""
    found = of_user(user_id).filter(name=name).first()
    if found is None:
        known = ", ".join(of_user(user_id).values_list("name", flat=True)) or "none"
        raise SettingsError(f"template: no template {name!r}; there are {known}.")
    return found


def start_from(session: Session, template: Template) -> Move:
    """Let a session start from a template, as one Move: its tools loaded but bypassed."""
    changes = changes_of(session.plan, template.data)
    words = "Every tool is loaded and bypassed; switch on what the song needs."
    title = f"Started from the template “{template.name}”"
    return moves.apply(session.pk, changes, step="load", title=title, measured=words, version=session.version)
