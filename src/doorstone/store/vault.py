"""Encrypts the few secrets that the records must be able to give back, with a key in a file beside them."""

from __future__ import annotations

from pathlib import Path

from cryptography.fernet import Fernet, InvalidToken

from doorstone.store.keys import VAULT_KEY, key_file

_MARK = "sealed:"


class VaultError(RuntimeError):
    """The key cannot open a secret: it was sealed with another key."""


class Vault:
    """Seals and opens texts. Texts from before there was a vault are returned as they are."""

    def __init__(self, folder: Path) -> None:
        self._path = folder / VAULT_KEY
        self._fernet: Fernet | None = None

    def _box(self) -> Fernet:
        if self._fernet is None:
            self._fernet = Fernet(key_file(self._path, Fernet.generate_key))
        return self._fernet

    def seal(self, text: str) -> str:
        return _MARK + self._box().encrypt(text.encode()).decode()

    def open(self, sealed: str) -> str:
        """The text of a sealed secret. Raises `VaultError` if the key is another one."""
        if not sealed.startswith(_MARK):
            return sealed
        try:
            return self._box().decrypt(sealed.removeprefix(_MARK).encode()).decode()
        except InvalidToken as error:
            raise VaultError(f"{self._path} is not the key of these records; restore it from a backup") from error
