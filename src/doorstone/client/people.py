"""The part of the client that speaks of people, tokens, what is due, and who is told."""

from __future__ import annotations

from doorstone.client.calls import Calls
from doorstone.formats import wire_people as wire


class PeopleCalls(Calls):
    """People, tokens, due dates, calendars, hooks."""

    def sign_in(self, name: str, password: str, code: str = "") -> wire.SessionShape:
        """Go on as a person, by session, as the console does; `code` is of their second factor, if they have one.

        Raises `NotSignedInError`.
        """
        self._http.headers["X-Doorstone-Console"] = "1"
        return self._made(wire.SessionShape, "POST", "/session", wire.SignIn(name=name, password=password, code=code))

    def session(self) -> wire.SessionShape:
        """Who the token belongs to, the service's day and the risk statement."""
        return self._get(wire.SessionShape, "/session")

    def me(self) -> wire.MeShape:
        """Oneself, with what one is told of by mail."""
        return self._get(wire.MeShape, "/me")

    def change_me(self, version: int, asked: wire.OwnChangeAsked) -> wire.MeShape:
        return self._made(wire.MeShape, "PATCH", "/me", asked, version)

    def set_my_password(self, old: str, new: str) -> None:
        """Every session of one's own ends; tokens stay."""
        self._send("PUT", "/me/password", body=wire.PasswordAsked(old=old, new=new))

    def begin_second_factor(self) -> str:
        """The address for an authenticator; it holds once `confirm_second_factor` has had a first code."""
        return self._made(wire.SecondFactorShape, "POST", "/me/second-factor").address

    def confirm_second_factor(self, code: str) -> None:
        self._send("PUT", "/me/second-factor", body=wire.CodeAsked(code=code))

    def drop_second_factor(self, person: str = "") -> None:
        """One's own, or as an administrator somebody's."""
        self._send("DELETE", f"/people/{person}/second-factor" if person else "/me/second-factor")

    def bind_person(self, person: str, subject: str) -> wire.PersonShape:
        """Have somebody sign in as a provider's subject."""
        return self._made(wire.PersonShape, "PUT", f"/people/{person}/subject", wire.SubjectAsked(subject=subject))

    def sign_ins(self, limit: int = 100) -> list[wire.SignInShape]:
        """Who signed in or failed to, newest first."""
        return self._get(wire.SignInPage, "/sign-ins", limit=limit).items

    def people(self, *, gone: bool = False) -> list[wire.PersonShape]:
        """Those who may sign in; with `gone`, also those who no longer may."""
        return self._get(wire.PersonList, "/people", gone="true" if gone else "").items

    def add_person(self, asked: wire.PersonAsked) -> wire.PersonShape:
        return self._made(wire.PersonShape, "POST", "/people", asked)

    def change_person(self, name: str, version: int, asked: wire.PersonChangeAsked) -> wire.PersonShape:
        """Raises `StaleEditError` if the person is no longer at `version`."""
        return self._made(wire.PersonShape, "PATCH", f"/people/{name}", asked, version)

    def set_password(self, name: str, new: str) -> None:
        self._send("PUT", f"/people/{name}/password", body=wire.PasswordAsked(new=new))

    def tokens(self) -> list[wire.TokenShape]:
        """One's own; as an administrator, everybody's."""
        return self._get(wire.TokenList, "/tokens").items

    def issue_token(self, asked: wire.TokenAsked) -> wire.TokenShape:
        """The answer holds the secret; it is not shown again."""
        return self._create(wire.TokenShape, "/tokens", asked)

    def revoke_token(self, token: str) -> wire.TokenShape:
        return self._made(wire.TokenShape, "DELETE", f"/tokens/{token}")

    # -------------------------------------------------------------- telling

    def due(self, *, mine: bool = False, kind: str = "") -> list[wire.DueShape]:
        """What is due, by day; only of one kind if it is named, such as `drift` or `uncovered`."""
        return self._get(wire.DueList, "/due", mine="true" if mine else "", kind=kind).items

    def make_calendar(self) -> str:
        """The path of a new calendar address; the one before is revoked."""
        return self._made(wire.CalendarShape, "POST", "/me/calendar").path

    def revoke_calendar(self) -> None:
        self._send("DELETE", "/me/calendar")

    def hooks(self) -> list[wire.HookShape]:
        return self._get(wire.HookList, "/hooks").items

    def add_hook(self, asked: wire.HookAsked) -> wire.HookShape:
        """The answer holds the secret that signs what is sent; it is not shown again."""
        return self._create(wire.HookShape, "/hooks", asked)

    def remove_hook(self, name: str) -> wire.HookShape:
        return self._made(wire.HookShape, "DELETE", f"/hooks/{name}")

    def try_hook(self, name: str) -> None:
        """Have an event sent at the next round."""
        self._send("POST", f"/hooks/{name}/trial")

    def deliveries(self, hook: str, limit: int = 100) -> list[wire.DeliveryShape]:
        """What was sent to a hook or is waiting, newest first."""
        return self._get(wire.DeliveryList, f"/hooks/{hook}/deliveries", limit=limit).items
