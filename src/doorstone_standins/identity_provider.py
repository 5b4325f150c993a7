"""A stand-in OpenID Connect provider: says who signs in, with which groups, to whoever asks with PKCE.

Whoever comes to it is let in at once as the person it was told to let in next. It can be told to lie: to sign with
another key, for another audience, or with an old nonce, so that a client can be seen not to believe it.
"""

from __future__ import annotations

import base64
import hashlib
import json
import secrets
import threading
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import cache
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, urlencode, urlsplit

from joserfc import jwt
from joserfc.jwk import RSAKey


@cache
def signing_key(whose: str) -> RSAKey:
    """A key made once in a process; every one has the same key id."""
    return RSAKey.generate_key(2048, {"kid": "one", "use": "sig", "alg": "RS256"})


@dataclass
class IdentityProvider:
    """`claims` are of the person who is let in next. `lies` replace parts of what is signed; `forged` signs falsely."""

    client_id: str = "door-stone"
    claims: dict[str, Any] = field(default_factory=dict)
    lies: dict[str, Any] = field(default_factory=dict)
    forged: bool = False
    refuses: bool = False
    address: str = ""
    key: RSAKey = field(default_factory=lambda: signing_key("own"))
    other_key: RSAKey = field(default_factory=lambda: signing_key("another's"))
    codes: dict[str, dict[str, str]] = field(default_factory=dict)

    def metadata(self) -> dict[str, Any]:
        return {
            "issuer": self.address,
            "authorization_endpoint": f"{self.address}/authorize",
            "token_endpoint": f"{self.address}/token",
            "jwks_uri": f"{self.address}/keys",
            "response_types_supported": ["code"],
            "subject_types_supported": ["public"],
            "id_token_signing_alg_values_supported": ["RS256"],
            "code_challenge_methods_supported": ["S256"],
        }

    def authorize(self, asked: Mapping[str, str]) -> str:
        """Where to send the browser back to."""
        if self.refuses:
            return f"{asked['redirect_uri']}?{urlencode({'error': 'access_denied', 'state': asked['state']})}"
        if asked.get("code_challenge_method") != "S256" or asked.get("client_id") != self.client_id:
            raise ValueError("this provider wants PKCE with S256 and its own client")
        code = secrets.token_urlsafe(16)
        self.codes[code] = dict(asked)
        return f"{asked['redirect_uri']}?{urlencode({'code': code, 'state': asked['state']})}"

    def token(self, given: Mapping[str, str]) -> dict[str, Any]:
        """Trade a code for an ID token, once, if the verifier fits the challenge."""
        asked = self.codes.pop(given["code"])
        digest = hashlib.sha256(given["code_verifier"].encode()).digest()
        if base64.urlsafe_b64encode(digest).rstrip(b"=").decode() != asked["code_challenge"]:
            raise ValueError("the verifier does not fit")
        now = int(time.time())
        claims = {
            "iss": self.address,
            "aud": self.client_id,
            "sub": str(self.claims.get("sub", f"subject of {self.claims.get('preferred_username', 'nobody')}")),
            "iat": now,
            "exp": now + 300,
            "nonce": asked["nonce"],
            **self.claims,
            **self.lies,
        }
        key = self.other_key if self.forged else self.key
        return {
            "access_token": secrets.token_urlsafe(16),
            "token_type": "Bearer",
            "id_token": jwt.encode({"alg": "RS256", "kid": "one"}, claims, key),
        }


@contextmanager
def running(provider: IdentityProvider) -> Iterator[str]:
    """The provider on loopback; gives its address, which is its issuer."""

    class Handler(BaseHTTPRequestHandler):
        def _send(self, status: int, body: Any = None, where: str = "") -> None:
            self.send_response(status)
            if where:
                self.send_header("Location", where)
            self.send_header("Content-Type", "application/json")
            self.end_headers()
            self.wfile.write(json.dumps(body).encode() if body is not None else b"")

        def do_GET(self) -> None:
            parts = urlsplit(self.path)
            asked = {name: values[0] for name, values in parse_qs(parts.query).items()}
            if parts.path == "/.well-known/openid-configuration":
                self._send(200, provider.metadata())
            elif parts.path == "/keys":
                self._send(200, {"keys": [provider.key.as_dict(private=False)]})
            elif parts.path == "/authorize":
                self._send(302, where=provider.authorize(asked))
            else:
                self._send(404, {})

        def do_POST(self) -> None:
            length = int(self.headers.get("Content-Length", 0))
            given = {name: values[0] for name, values in parse_qs(self.rfile.read(length).decode()).items()}
            try:
                self._send(200, provider.token(given))
            except (KeyError, ValueError):
                self._send(400, {"error": "invalid_grant"})

        def log_message(self, *words: Any) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    provider.address = f"http://127.0.0.1:{server.server_address[1]}"
    threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
    try:
        yield provider.address
    finally:
        server.shutdown()
        server.server_close()
