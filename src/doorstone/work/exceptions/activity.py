"""Activity of exceptions: comments, questions and answers, attestations, attachments, another owner."""

from __future__ import annotations

from datetime import date

from doorstone.core.exceptions.life import ENDED, ExceptionState
from doorstone.core.exceptions.requests import NewAttachment
from doorstone.core.exceptions.terms import check_attachment
from doorstone.core.people import check_active
from doorstone.store.exceptions import exceptions as store
from doorstone.work.context.actor import Actor
from doorstone.work.context.audit import object_made_before, record, tell_people
from doorstone.work.context.context import Context
from doorstone.work.context.errors import BadInputError, RefusedError, rules
from doorstone.work.exceptions.requests import (
    ExceptionView,
    check_version,
    get_exception,
    need,
)
from doorstone.work.snapshot.approvals import state_of
from doorstone.work.snapshot.people import active_people
from doorstone.work.snapshot.snapshot import snapshot
from doorstone.work.snapshot.uncovered import still_running


def comment(context: Context, actor: Actor, name: str, text: str, *, question: bool = False) -> ExceptionView:
    """Say something about it. A `question` asks the requester back; what they then say is the answer.

    Raises `RefusedError` for a question on what is no longer requested or by somebody who does not decide.
    """
    text = _words(text)
    with context.database.write() as db:
        if object_made_before(db, actor):
            return get_exception(context, name)
        row = need(db, name)
        kind, action = "comment", "commented"
        if question:
            if row.state != ExceptionState.REQUESTED:
                raise RefusedError(f"{name} is {row.state}; there is nobody to ask back", "Comment on it instead")
            if actor.role not in ("approver", "administrator"):
                raise RefusedError(f"A {actor.role} does not decide", "Comment on it instead")
            kind, action = "question", "question asked"
        elif row.asked_back and actor.authority == row.requester:
            kind, action = "answer", "question answered"
        store.comment(db, row.id, kind, text, actor.name, context.now())
        if kind != "comment":
            store.touch(db, row.id, asked_back=int(kind == "question"))
        record(context, db, actor, action, "exception", name, {"text": text}, creates=True)
        words = {"comment": "says of", "question": "asks back about", "answer": "answers about"}[kind]
        news = "question" if kind == "question" else "comment"
        people = {row.requester, row.owner, *(c.by for c in row.comments), *(a.person for a in row.approvals)}
        message = f"{actor.name} {words} {name}: {text}"
        tell_people(context, db, news, name, message, people=people, besides=(actor.name,))
    return get_exception(context, name)


def attest(context: Context, actor: Actor, name: str, condition: int, note: str) -> ExceptionView:
    """Attest that a condition is kept, today. Owner, requester, technician or administrator may do so.

    Raises `RefusedError` once the exception has ended and no device runs by it any more.
    """
    now = snapshot(context)
    with context.database.write() as db:
        if object_made_before(db, actor):
            return get_exception(context, name)
        row = need(db, name)
        found = next((c for c in row.conditions if c.number == condition), None)
        if found is None:
            known = ", ".join(str(c.number) for c in row.conditions) or "none"
            raise BadInputError(f"{name} has no condition {condition}", f"There are: {known}")
        if found.fact_condition is not None:
            raise RefusedError(f"“{found.text}” is checked by the readings", "Read the devices again")
        if (state := state_of(row, context.today())) in ENDED and not still_running(now, row):
            raise RefusedError(f"{name} is {state}, and no device runs by it", "Nothing is to be kept any more")
        store.attest(db, row.id, condition, actor.name, context.now(), note.strip()[:2000])
        store.touch(db, row.id)
        body = {"number": condition, "condition": found.text, "note": note.strip()[:2000]}
        record(context, db, actor, "condition attested", "exception", name, body, creates=True, devices=row.devices)
    return get_exception(context, name)


def attach(context: Context, actor: Actor, name: str, given: NewAttachment) -> ExceptionView:
    """Add evidence by link, with the SHA-256 of what is there."""
    with rules():
        check_attachment(given.title, given.link, given.sha256)
    with context.database.write() as db:
        if object_made_before(db, actor):
            return get_exception(context, name)
        row = need(db, name)
        if len(row.attachments) >= 50:
            raise RefusedError(f"{name} has 50 attachments", "Put the rest behind one link")
        store.attach(db, row.id, given.title.strip(), given.link, given.sha256, actor.name, context.now())
        store.touch(db, row.id)
        body = {"title": given.title.strip(), "link": given.link, "sha256": given.sha256}
        record(context, db, actor, "attachment added", "exception", name, body, creates=True)
    return get_exception(context, name)


def transfer(context: Context, actor: Actor, name: str, version: int | None, owner: str, note: str) -> ExceptionView:
    """Make somebody else answer for it: the owner, an approver or an administrator does so."""
    with context.database.write() as db:
        row = need(db, name)
        check_version(row, name, version)
        with rules():
            check_active(owner, active_people(db))
        if state_of(row, context.today()) in ENDED:
            raise RefusedError(f"{name} is {state_of(row, context.today())}", "It needs no owner any more")
        if actor.authority != row.owner and actor.role not in ("approver", "administrator"):
            raise RefusedError(f"{name} is {row.owner}'s", "Ask them, an approver or an administrator")
        if owner == row.owner:
            raise BadInputError(f"{owner} is the owner already", "Name somebody else")
        store.touch(db, row.id, owner=owner)
        body = {"owner": owner, "was": row.owner, "note": note.strip()[:2000]}
        record(context, db, actor, "exception transferred", "exception", name, body)
        words = f"{actor.name} made {owner} the owner of {name} instead of {row.owner}"
        tell_people(context, db, "transfer", name, words, people=(owner, row.owner), besides=(actor.name,))
    return get_exception(context, name)


def review(
    context: Context, actor: Actor, name: str, version: int | None, next_on: date | None, note: str
) -> ExceptionView:
    """Write down that it was reviewed; the next review is on `next_on`, without one at its expiry."""
    with context.database.write() as db:
        row = need(db, name)
        check_version(row, name, version)
        if state_of(row, context.today()) != ExceptionState.APPROVED:
            raise RefusedError(f"{name} is {state_of(row, context.today())}", "Only what is approved is reviewed")
        if actor.authority != row.owner and actor.role not in ("approver", "administrator"):
            raise RefusedError(f"{name} is {row.owner}'s", "Ask them, an approver or an administrator")
        expiry = date.fromisoformat(row.expires_on)
        following = next_on or expiry
        if not context.today() < following <= expiry:
            raise BadInputError(f"The next review cannot be on {following}", f"Choose a day after today, by {expiry}")
        store.touch(db, row.id, review_on=following.isoformat())
        body = {"was": row.review_on, "review_on": following.isoformat(), "note": _words(note)}
        record(context, db, actor, "exception reviewed", "exception", name, body, devices=row.devices)
    return get_exception(context, name)


def _words(text: str) -> str:
    text = text.strip()
    if not 2 <= len(text) <= 4000:
        raise BadInputError("The text is empty or too long", "Enter between 2 and 4,000 characters")
    return text
