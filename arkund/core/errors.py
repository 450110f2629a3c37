"""The errors that Arkund raises on purpose. Their text names the thing, what was expected and what to do."""


class ArkundError(Exception):
    """Anything that a user can be told in one sentence."""


class SettingsError(ArkundError, ValueError):
    """A setting is unknown, has the wrong type or lies outside its range."""


class UnchangedError(SettingsError):
    """A change that would change nothing: what is asked for is so already."""


class AudioError(ArkundError, ValueError):
    """Audio or an audio file that cannot be used."""


class CancelledError(ArkundError):
    """Long work was stopped because someone asked for it."""


class StaleError(ArkundError):
    """A change was made on a version of the Plan that is no longer the current one."""


class StorageError(ArkundError):
    """The disk is full or may not be written to."""


class BusyError(ArkundError):
    """Too much is asked for at the same time; later it will be done."""
