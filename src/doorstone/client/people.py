"""The part of the client for people, tokens, the due list and webhooks."""

from __future__ import annotations

from doorstone.api.due import CalendarResponse, DueList, DueResponse
from doorstone.api.notifications import DeliveryList, DeliveryResponse, WebhookList, WebhookRequest, WebhookResponse
from doorstone.api.people import (
    CodeRequest,
    CurrentCodeRequest,
    DeputyList,
    DeputyRequest,
    DeputyResponse,
    MeResponse,
    OwnChangeRequest,
    PasswordRequest,
    PersonChangeRequest,
    PersonList,
    PersonRequest,
    PersonResponse,
    SecondFactorResponse,
    SessionResponse,
    SignInPage,
    SignInRequest,
    SignInResponse,
    SubjectRequest,
    TokenList,
    TokenRequest,
    TokenResponse,
)
from doorstone.client.transport import Transport


class PeopleCalls(Transport):
    """People, tokens, due dates, calendars, webhooks."""

    def sign_in(self, name: str, password: str, code: str = "") -> SessionResponse:
        """Sign in as a person, by session, as the console does; `code` comes from their second factor, if any.

        Raises `NotSignedInError`.
        """
        self._http.headers["X-Doorstone-Console"] = "client"
        return self._made(SessionResponse, "POST", "/session", SignInRequest(name=name, password=password, code=code))

    def session(self) -> SessionResponse:
        """Who the token belongs to, the service's day and the risk statement."""
        return self._get(SessionResponse, "/session")

    def deputies(self) -> list[DeputyResponse]:
        """Who acts in whose place, and did, newest first."""
        return self._get(DeputyList, "/deputies").items

    def name_deputy(self, request: DeputyRequest) -> DeputyResponse:
        """Name a deputy for some days. What the deputy decides is marked so in the ledger."""
        return self._create(DeputyResponse, "/deputies", request)

    def end_deputy(self, name: str) -> DeputyResponse:
        return self._made(DeputyResponse, "DELETE", f"/deputies/{name}")

    def me(self) -> MeResponse:
        """The signed-in person, with the mail that they get."""
        return self._get(MeResponse, "/me")

    def change_me(self, version: int, request: OwnChangeRequest) -> MeResponse:
        return self._made(MeResponse, "PATCH", "/me", request, version)

    def set_my_password(self, old: str, new: str) -> None:
        """Change one's own password. All one's sessions end; tokens stay."""
        self._send("PUT", "/me/password", body=PasswordRequest(old=old, new=new))

    def begin_second_factor(self, code: str = "") -> str:
        """The address for an authenticator; it holds once `confirm_second_factor` has had a first code.

        To replace a second factor takes a `code` of the one that is set.
        """
        body = CurrentCodeRequest(code=code)
        return self._made(SecondFactorResponse, "POST", "/me/second-factor", body).address

    def confirm_second_factor(self, code: str) -> None:
        self._send("PUT", "/me/second-factor", body=CodeRequest(code=code))

    def drop_second_factor(self, person: str = "", code: str = "") -> None:
        """Remove one's own second factor, with a `code` of it, or as an administrator that of another person."""
        if person:
            self._send("DELETE", f"/people/{person}/second-factor")
        else:
            self._send("DELETE", "/me/second-factor", body=CurrentCodeRequest(code=code))

    def bind_person(self, person: str, subject: str) -> PersonResponse:
        """Link a person to their subject at the identity provider."""
        return self._made(PersonResponse, "PUT", f"/people/{person}/subject", SubjectRequest(subject=subject))

    def sign_ins(self, limit: int = 100) -> list[SignInResponse]:
        """Who signed in or failed to, newest first."""
        return self._get(SignInPage, "/sign-ins", limit=limit).items

    def people(self, *, gone: bool = False) -> list[PersonResponse]:
        """Those who may sign in; with `gone`, also those who no longer may."""
        return self._get(PersonList, "/people", gone="true" if gone else "").items

    def add_person(self, request: PersonRequest) -> PersonResponse:
        return self._made(PersonResponse, "POST", "/people", request)

    def change_person(self, name: str, version: int, request: PersonChangeRequest) -> PersonResponse:
        """Raises `StaleEditError` if the person is no longer at `version`."""
        return self._made(PersonResponse, "PATCH", f"/people/{name}", request, version)

    def set_password(self, name: str, new: str) -> None:
        self._send("PUT", f"/people/{name}/password", body=PasswordRequest(new=new))

    def tokens(self) -> list[TokenResponse]:
        """One's own; as an administrator, everybody's."""
        return self._get(TokenList, "/tokens").items

    def issue_token(self, request: TokenRequest) -> TokenResponse:
        """The answer holds the secret; it is not shown again."""
        return self._create(TokenResponse, "/tokens", request)

    def revoke_token(self, token: str) -> TokenResponse:
        return self._made(TokenResponse, "DELETE", f"/tokens/{token}")

    # ------------------------------------------------------------ notifications

    def due(self, *, mine: bool = False, kind: str = "") -> list[DueResponse]:
        """What is due, by day; only of one kind if it is named, such as `drift` or `uncovered`."""
        return self._get(DueList, "/due", mine="true" if mine else "", kind=kind).items

    def make_calendar(self) -> str:
        """The path of a new calendar address; the one before is revoked."""
        return self._made(CalendarResponse, "POST", "/me/calendar").path

    def revoke_calendar(self) -> None:
        self._send("DELETE", "/me/calendar")

    def webhooks(self) -> list[WebhookResponse]:
        return self._get(WebhookList, "/webhooks").items

    def add_webhook(self, request: WebhookRequest) -> WebhookResponse:
        """The answer holds the secret that signs what is sent; it is not shown again."""
        return self._create(WebhookResponse, "/webhooks", request)

    def remove_webhook(self, name: str) -> WebhookResponse:
        return self._made(WebhookResponse, "DELETE", f"/webhooks/{name}")

    def try_webhook(self, name: str) -> None:
        """Have an event sent at the next round."""
        self._send("POST", f"/webhooks/{name}/trial")

    def deliveries(self, webhook: str, limit: int = 100) -> list[DeliveryResponse]:
        """What was sent to a webhook or is waiting, newest first."""
        return self._get(DeliveryList, f"/webhooks/{webhook}/deliveries", limit=limit).items
