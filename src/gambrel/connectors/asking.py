"""What all connectors share: places, accounts, requests with a time limit, errors that advise."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal, Protocol

import requests
from urllib3.exceptions import HTTPError

from gambrel.core.estate.inventory import Inventory

Progress = Callable[[int, int | None], None]
"""Called with how many things were read and how many there are, where that is known."""

CONNECT_WITHIN_S = 3.0
ANSWER_WITHIN_S = 10.0
"""So long nothing may come."""
WHOLE_WITHIN_S = 120.0
"""So long the whole of one answer may take, however steadily it drips."""
MOST_BYTES = 128 << 20
"""Of one answer; 10,000 machines take a tenth of it."""


@dataclass(frozen=True, slots=True)
class Place:
    """Where a source is: its id in the plan, its address, the site of all that it names."""

    source: str
    address: str
    site: str
    kind: Literal["manager", "host", "agent"]


@dataclass(frozen=True, slots=True)
class Account:
    """A user of a part of a source; the secret is in no text that is made of it."""

    scope: str
    user: str
    secret: str = field(repr=False)


@dataclass(frozen=True, slots=True)
class Access:
    """How one account did: what failed and what to do, both empty where it works."""

    works: bool
    failure: str = ""
    advice: str = ""


class SourceError(Exception):
    """A source that cannot be read: what failed, and what to do."""

    def __init__(self, failure: str, advice: str) -> None:
        self.failure = failure
        self.advice = advice
        super().__init__(f"{failure} {advice}")


class Cancelled(Exception):
    """Somebody does not want the answer any more."""


class Connector(Protocol):
    """Asks one source of a make."""

    def check(self, account: Account, within_s: float) -> Access:
        """Whether an account may do what it is for; it never raises."""

    def read(self, account: Account, progress: Progress) -> Inventory:
        """All that the source names.

        Raises:
            SourceError: where it cannot be read, or says something that makes no sense.
        """


_REFUSALS = {
    401: ("The user or the secret is wrong.", "Enter them again; mind upper and lower case."),
    403: (
        "The account may not do this.",
        "Give it the right to read machines and to take snapshots, or name another account.",
    ),
    404: ("There is nothing at this address.", "Check the address and the make of the source."),
    423: ("The account is locked.", "Unlock it at the source, then try again."),
}


def ask(
    method: str,
    address: str,
    *,
    within_s: float = ANSWER_WITHIN_S,
    session: requests.Session | None = None,
    **more: Any,
) -> Any:
    """The JSON of an answer.

    Raises:
        SourceError: for no answer in time, a refusal, or an answer that is no JSON object.
    """
    try:
        # No proxy of the environment and no redirect: an account goes where it was meant to go.
        asking = session or requests.Session()
        asking.trust_env = False
        # As it is: what is packed small may be large.
        asking.headers["Accept-Encoding"] = "identity"
        answer = asking.request(
            method, address, timeout=(min(CONNECT_WITHIN_S, within_s), within_s),
            allow_redirects=False, stream=True, **more,
        )  # fmt: skip
        content = _whole(answer)
    except requests.Timeout:
        raise SourceError(
            f"No answer within {within_s:g} s.", "Check that it runs and is not overloaded."
        ) from None
    except requests.RequestException:
        raise SourceError(
            "It cannot be reached.", "Check the address, the port and the firewall between."
        ) from None
    if answer.status_code in _REFUSALS:
        failure, advice = _REFUSALS[answer.status_code]
        raise SourceError(_said(content) or failure, advice)
    if answer.status_code >= 300:
        raise SourceError(
            f"It answers with status {answer.status_code}.", "Look into the log of the source."
        )
    try:
        body = json.loads(content)
    except (ValueError, RecursionError):
        body = None
    if not isinstance(body, Mapping):
        raise SourceError(
            "Its answer is not what this make sends.", "Check the make of the source."
        )
    return body


def _whole(answer: requests.Response) -> bytes:
    """All of an answer.

    Raises:
        SourceError: where it is too large or takes too long.
    """
    deadline = time.monotonic() + WHOLE_WITHIN_S
    content = bytearray()
    try:
        # Each read returns what has arrived, so a slow drip cannot outlast the deadline.
        while part := answer.raw.read1(1 << 16, decode_content=False):
            content += part
            if len(content) > MOST_BYTES:
                raise SourceError(
                    f"Its answer is larger than {MOST_BYTES >> 20} MiB.", "Look at the source."
                )
            if time.monotonic() > deadline:
                raise SourceError(
                    f"Its answer was not whole within {WHOLE_WITHIN_S:g} s.",
                    "Check that it runs and is not overloaded.",
                )
    except HTTPError as error:
        raise requests.ConnectionError(error) from error
    finally:
        answer.close()
    return bytes(content)


def _said(content: bytes) -> str:
    """What a refusal says of itself: one short line, without anything that is not text."""
    try:
        said = json.loads(content).get("reason", "")
    except (ValueError, AttributeError, RecursionError):
        return ""
    if not isinstance(said, str):
        return ""
    return "".join(c if c.isprintable() else " " for c in said[:200]).strip()


def checked(question: Callable[[], Any]) -> Access:
    """The outcome of a question that only asks for access."""
    try:
        question()
    except SourceError as error:
        return Access(False, error.failure, error.advice)
    return Access(True)


def understood(make: Callable[[], Inventory]) -> Inventory:
    """An inventory made of an answer.

    Raises:
        SourceError: where the answer lacks something or contradicts itself.
    """
    try:
        return make()
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        what = f"lacks {error}" if isinstance(error, KeyError) else str(error)
        raise SourceError(
            f"Its answer makes no sense: {what}.", "Nothing was changed; look at the source."
        ) from None
