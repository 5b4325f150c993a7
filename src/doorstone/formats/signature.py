"""Signatures of kits: Ed25519 (RFC 8032), keys as PEM, signatures in base64."""

from __future__ import annotations

import base64
import binascii

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    NoEncryption,
    PrivateFormat,
    PublicFormat,
    load_pem_private_key,
    load_pem_public_key,
)


def new_key() -> bytes:
    """A private key, PEM (PKCS 8)."""
    return Ed25519PrivateKey.generate().private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())


def public_key(private: bytes) -> bytes:
    """The public key of a private one, PEM."""
    return _private(private).public_key().public_bytes(Encoding.PEM, PublicFormat.SubjectPublicKeyInfo)


def sign(private: bytes, data: bytes) -> bytes:
    """The signature, base64 and a line end; the same for the same data."""
    return base64.b64encode(_private(private).sign(data)) + b"\n"


def _private(pem: bytes) -> Ed25519PrivateKey:
    key = load_pem_private_key(pem, None)
    if not isinstance(key, Ed25519PrivateKey):
        raise ValueError("the key is not an Ed25519 key")
    return key


def fits(public: bytes, data: bytes, signature: bytes) -> bool:
    """Whether the signature is of this data by the holder of the key. Raises `ValueError` for what is no such key."""
    key = load_pem_public_key(public)
    if not isinstance(key, Ed25519PublicKey):
        raise ValueError("the key is not an Ed25519 key")
    try:
        raw = base64.b64decode(signature.strip(), validate=True)
        if base64.b64encode(raw) + b"\n" != signature:  # written otherwise than it was made
            return False
        key.verify(raw, data)
    except (InvalidSignature, binascii.Error):
        return False
    return True
