"""Sentences: the ledger's entries as sentences that a person reads.

In: an entry's action, object, body, and who did it. Out: one sentence; none is empty.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

Body = Mapping[str, Any]


def sentence(action: str, obj: str, body: Body, who: str) -> str:
    """What happened, in the past tense, `who` first."""
    tell = _TELLERS.get(action)
    words = tell(body) if tell else f"{action} {obj}".strip()
    if body.get("in_place_of"):
        who = f"{who}, in place of {body['in_place_of']},"
    return f"{who} {words}."


def _list(names: Sequence[Any], word: str, most: int = 4) -> str:
    if len(names) > most:
        return f"{len(names)} {word}s"
    return ", ".join(str(name) for name in names)


def _quoted(text: Any) -> str:
    return f": “{str(text).rstrip('.')}”" if text else ""


def _requested(body: Body) -> str:
    up_to = "up to " if body.get("up_to") else ""
    renews = f", renewing {body['renews']}" if body.get("renews") else ""
    return (
        f"asked to run {up_to}{body['release']} without {_list(body['requirements'], 'requirement')} on "
        f"{_list(body['devices'], 'device')} through {body['expires_on']}{renews}{_quoted(body['reason'])}"
    )


def _approved(body: Body) -> str:
    own = " their own request" if body.get("self_approved") else ""
    out = body.get("left_out") or ()
    without = f", without {_list(out, 'part')}" if out else ""
    return f"approved{own}{without}{_quoted(body.get('note'))}"


def _approved_once(body: Body) -> str:
    fell = f"; the earlier approval by {body['fell_away']} fell away" if body.get("fell_away") else ""
    return f"approved as one of {body['needed']}{fell}{_quoted(body.get('note'))}"


def _noted(verb: str) -> Callable[[Body], str]:
    return lambda body: f"{verb}{_quoted(body.get('note') or body.get('text') or body.get('reason'))}"


def _confirmed(body: Body) -> str:
    return f"looked again at {_list(body['devices'], 'device')} and let the approval stand{_quoted(body.get('note'))}"


def _decided(body: Body) -> str:
    where = f" for {body['scope']} {body['target']}" if body.get("target") else ""
    return f"sorted {body['requirement']} at {body['release']}{where} as {body['sort']}{_quoted(body.get('note'))}"


def _kit(body: Body) -> str:
    base = f" on {_list(body['exceptions'], 'exception')}" if body.get("exceptions") else ""
    with_ = f" with {_list(body['overrides'], 'override')}" if body.get("overrides") else ""
    return f"made a kit for {body['device']} to {body['release']}, {body['route']}{with_}{base}"


def _attempt(body: Body) -> str:
    refused = f" by {body['refused_by']}" if body.get("refused_by") else ""
    notice = "; the vendor's notice was accepted" if body.get("notice_accepted") else ""
    ended = str(body["ended_at"]).replace("T", " ")
    return (
        f"tried {body['release']} on {body['device']}, which ended {ended}: "
        f"{body['outcome']}{refused}{notice}{_quoted(body.get('seen'))}"
    )


def _observed(body: Body) -> str:
    reason = f", {body['reason']}" if body.get("reason") else ""
    return f"saw on {body['seen_on']} of {body['update_class']} updates: {body['result']}{reason}"


def _wiped(body: Body) -> str:
    return f", its data erased by {body['wiped_by']}" if body.get("wiped_by") else ""


def _settled(body: Body) -> str:
    return f"settled {body.get('fact') or body.get('requirement')} as {body['value']}{_quoted(body.get('reason'))}"


_TELLERS: Mapping[str, Callable[[Body], str]] = {
    "exception requested": _requested,
    "exception edited": lambda body: f"edited the terms: through {body['expires_on']}{_quoted(body['reason'])}",
    "exception approved": _approved,
    "exception approved once": _approved_once,
    "exception confirmed": _confirmed,
    "exception declined": _noted("declined"),
    "exception withdrawn": _noted("withdrew the request"),
    "exception revoked": _noted("revoked the approval"),
    "exception closed": lambda body: f"closed it{_quoted(body.get('note'))}",
    "exception lapsed": lambda body: f"noted that it lapsed on {body['ended_on']}, after its last day",
    "exception replaced": lambda body: f"closed it: {body['renewed_by']} has taken its place",
    "task made": lambda b: f"wrote down for {b['owner']}: {b['words']}",
    "task open": _noted("opened the task again"),
    "task done": _noted("settled the task"),
    "task dropped": _noted("dropped the task"),
    "list names decided": lambda b: f"said of {len(b['names'])} names of {b['list']} what they are",
    "deputy named": lambda b: (
        f"named {b['deputy']} deputy of {b['person']} from {b['start_on']} through {b['end_on']}{_quoted(b['reason'])}"
    ),
    "deputy ended": lambda b: f"ended that {b['deputy']} is deputy of {b['person']}",
    "exception goes on": lambda body: f"let it go on without {body['left_out']}{_quoted(body.get('note'))}",
    "device set aside": lambda b: f"set {b['device']} aside until {b['look_on']}{_quoted(b['reason'])}",
    "device retired": lambda b: f"retired {b['device']} on {b['on']}{_wiped(b)}{_quoted(b['reason'])}",
    "device replaced": lambda b: (
        f"noted that {b['replaced_by']} replaced {b['device']} on {b['on']}{_wiped(b)}{_quoted(b['reason'])}"
    ),
    "device returned": lambda b: f"brought {b['device']} back into service{_quoted(b['reason'])}",
    "exception transferred": lambda b: f"made {b['owner']} the owner instead of {b['was']}{_quoted(b.get('note'))}",
    "exception reviewed": lambda b: f"reviewed it, next on {b['review_on']}{_quoted(b.get('note'))}",
    "question asked": _noted("asked back"),
    "question answered": _noted("answered"),
    "commented": _noted("noted"),
    "condition attested": lambda body: f"attested that “{body['condition']}” is kept{_quoted(body.get('note'))}",
    "attachment added": lambda body: f"attached {body['title']}, {body['link']}",
    "sorted": _decided,
    "kit made": _kit,
    "observed": _observed,
    "dispute settled": _settled,
    **{f"attempt {outcome}": _attempt for outcome in (
        "completed", "refused", "carry-over-lost", "failed-to-start", "rolled-back", "abandoned",
    )},
}  # fmt: skip
