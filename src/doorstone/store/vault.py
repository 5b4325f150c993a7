"""Encrypts the few secrets that the records must be able to give back, with a key in a file beside them."""

from __future__ import annotations

import os
from pathlib import Path

from cryptography.fernet import Fernet, InvalidToken

VAULT_KEY = "records.key"
_MARK = "sealed:"


class VaultError(RuntimeError):
    """A secret cannot be read: the key is not the one that it was sealed with."""


class Vault:
    """Seals and opens texts. What was kept before there was a vault is given back as it is."""

    def __init__(self, folder: Path) -> None:
        self._path = folder / VAULT_KEY
        self._fernet: Fernet | None = None

    def _box(self) -> Fernet:
        if self._fernet is None:
            try:
                handle = os.open(self._path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            except FileExistsError:
                pass
            else:
                with os.fdopen(handle, "wb") as file:
                    file.write(Fernet.generate_key())
            self._fernet = Fernet(self._path.read_bytes())
        return self._fernet

    def seal(self, text: str) -> str:
        return _MARK + self._box().encrypt(text.encode()).decode()

    def open(self, sealed: str) -> str:
        """Raises `VaultError` where the key is another one."""
        if not sealed.startswith(_MARK):
            return sealed
        try:
            return self._box().decrypt(sealed.removeprefix(_MARK).encode()).decode()
        except InvalidToken as error:
            raise VaultError(f"{self._path} is not the key of these records; restore it from a backup") from error
