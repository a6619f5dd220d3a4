"""What an editor asked for that cannot be done; the message says why and what to do."""

from __future__ import annotations

from keen_horizon.core.errors import KeenHorizonError


class NotPossible(KeenHorizonError):
    """The request cannot be carried out as things stand."""


class NotThere(KeenHorizonError):
    """The thing asked for does not exist, or no longer."""


class SourceChanged(NotPossible):
    """A file that is used where it lies is no longer the one that was prepared."""
