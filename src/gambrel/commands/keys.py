"""The keys of this folder: they sign sessions and seal the secrets of sources."""

from __future__ import annotations

import os
import secrets

from gambrel.commands.places import STATE
from gambrel.commands.state_files import kept_text
from gambrel.store.sealing import Sealer


def secret_key() -> str:
    """The key that signs session cookies: GAMBREL_SECRET_KEY, or one made once for this folder."""
    return os.environ.get("GAMBREL_SECRET_KEY") or kept_text(
        STATE / "secret-key", lambda: secrets.token_urlsafe(48), least=32
    )


def sealing_key() -> str:
    """The key that seals the secrets of sources: GAMBREL_SEALING_KEY, or one made once."""
    return os.environ.get("GAMBREL_SEALING_KEY") or kept_text(
        STATE / "sealing-key",
        Sealer.new_key,
        least=32,
        lost="the secrets of all sources then have to be entered again",
    )


def keys() -> dict[str, str]:
    """What a dump needs beside the database, so that another machine can go on with it."""
    return {"secret-key": secret_key(), "sealing-key": sealing_key()}
