"""Secrets of sources, sealed with a key that is not in the database."""

from __future__ import annotations

from cryptography.fernet import Fernet, InvalidToken


class SealBroken(ValueError):
    """A secret that this key did not seal."""


class Sealer:
    """Seals and opens secrets (Fernet: AES-128-CBC with an HMAC-SHA256).

    Args:
        key: 32 random bytes in URL-safe base64, as `Sealer.new_key` makes them.
    """

    def __init__(self, key: str) -> None:
        self._fernet = Fernet(key)

    @staticmethod
    def new_key() -> str:
        return Fernet.generate_key().decode()

    def seal(self, secret: str) -> str:
        return self._fernet.encrypt(secret.encode()).decode()

    def open(self, sealed: str) -> str:
        """The secret. Raises SealBroken."""
        try:
            return self._fernet.decrypt(sealed.encode()).decode()
        except InvalidToken:
            raise SealBroken("this secret was sealed with another key: enter it again") from None

    def __repr__(self) -> str:
        return "Sealer()"
