"""The OpenAPI description, completed: what every route can answer, and what it must be sent.

The framework names the answer that is expected. Which errors may come follows from a route itself:
what it is sent, whether it needs to be signed in, whether it writes.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from typing import Any

from apiflask import APIFlask

from gambrel.api.answers import TAGGED
from gambrel.api.revisions import NEEDS_REVISION
from gambrel.api.rights import OPEN, READ, RIGHTS, WITH_OWN_TOKENS

METHODS = ("get", "post", "put", "patch", "delete")
SAFE = ("get",)
LIMITED = {
    "session.sign_in", "session.sign_in_with_password", "session.set_password",
    "provider.to_provider", "provider.from_provider",
}  # fmt: skip
"""Routes that take so many tries."""
STATE_IN_THE_BODY = {"imports.import_files"}
"""Routes that are sent with their body what they are based on, instead of If-Match."""
PROBLEMS = {
    "400": "The request cannot be read.",
    "401": "Nobody is signed in.",
    "403": "Who asks has not the right to, or the request carries no valid token of the session.",
    "404": "There is no such thing.",
    "405": "The address does not take this method; Allow names those that it takes.",
    "409": "It cannot be done with the plan or estate as it is.",
    "412": "Somebody else changed it meanwhile; the answer holds what it is now.",
    "413": "This is more than can be sent at once.",
    "415": "The body is of another kind than JSON.",
    "422": "A value cannot be; the answer names the field.",
    "428": "If-Match is missing.",
    "429": "Too many tries; Retry-After says when to try again.",
    "500": "Something went wrong on our side.",
    "503": "The database does not answer, or it took too long; try again in a moment.",
}
IF_MATCH = {
    "in": "header",
    "name": "If-Match",
    "required": True,
    "description": "the revision that the request is based on, as the ETag of an answer has it",
    "schema": {"type": "string"},
}
SECURITY_SCHEMES = {
    "session": {
        "type": "apiKey",
        "in": "cookie",
        "name": "gambrel",
        "description": "set by signing in; the name ends with the port",
    },
    "token": {
        "type": "apiKey",
        "in": "header",
        "name": "X-CSRF-Token",
        "description": "the token of the session, from /api/v1/session",
    },
    "program": {
        "type": "http",
        "scheme": "bearer",
        "description": "an API token, which needs neither cookie nor X-CSRF-Token",
    },
    "runner": {
        "type": "http",
        "scheme": "bearer",
        "description": "the token of a runner or a reporting script",
    },
}


def _operations(app: APIFlask, spec: dict[str, Any]) -> Iterator[tuple[str, str, dict[str, Any]]]:
    """(endpoint, method, operation) of everything that is described."""
    endpoints = {}
    for rule in app.url_map.iter_rules():
        path = re.sub(r"<(?:\w+:)?(\w+)>", r"{\1}", rule.rule)
        for method in rule.methods or ():
            endpoints[path, method.lower()] = rule.endpoint
    for path, methods in spec["paths"].items():
        for method in METHODS:
            if method in methods:
                yield endpoints[path, method], method, methods[method]


def _codes(endpoint: str, method: str, operation: dict[str, Any], view: Any) -> set[str]:
    codes = {"400", "405", "500", "503"}
    if RIGHTS.get(endpoint) != OPEN:
        codes.add("401")
    if RIGHTS.get(endpoint) not in (OPEN, READ):
        codes.add("403")
    if method not in SAFE:
        codes |= {"403", "409", "413", "422"}
    if "requestBody" in operation:
        codes.add("415")
    if operation.get("parameters"):
        codes |= {"404", "409", "422"}
    if hasattr(view, NEEDS_REVISION):
        codes |= {"412", "428"}
    if endpoint in STATE_IN_THE_BODY:
        codes.add("412")
    if endpoint in LIMITED or _is_for_runners(endpoint):
        codes.add("429")
    if _is_for_runners(endpoint):
        codes.add("409")
    return codes


def _is_for_runners(endpoint: str) -> bool:
    return endpoint.split(".")[0] == WITH_OWN_TOKENS


def complete(app: APIFlask, spec: dict[str, Any]) -> dict[str, Any]:
    """Name what every route can answer and which headers it needs; one name for each schema."""
    for endpoint, method, operation in _operations(app, spec):
        view = app.view_functions[endpoint]
        answers = operation["responses"]
        for code in [code for code in answers if code >= "400"]:
            del answers[code]
        for code in sorted(_codes(endpoint, method, operation, view)):
            answers[code] = {
                "description": PROBLEMS[code],
                "content": {
                    "application/problem+json": {
                        "schema": {"$ref": "#/components/schemas/ProblemSchema"}
                    }
                },
            }
        if hasattr(view, NEEDS_REVISION):
            operation["parameters"] = [*operation.get("parameters", ()), IF_MATCH]
        if hasattr(view, TAGGED) or endpoint == "runner.adopted_plan":
            answers["304"] = {"description": "Nothing has changed since If-None-Match."}
        open_ = RIGHTS.get(endpoint) == OPEN
        needed: dict[str, list[str]] = {} if open_ else {"session": []}
        operation["security"] = [needed if method in SAFE else {**needed, "token": []}]
        if not open_:
            operation["security"].append({"program": []})
            operation["x-right"] = RIGHTS.get(endpoint)
        if _is_for_runners(endpoint):
            operation["security"] = [{"runner": []}]
    spec["components"]["securitySchemes"] = SECURITY_SCHEMES
    return _named_once(spec)


def _named_once(spec: dict[str, Any]) -> dict[str, Any]:
    """The framework describes a schema anew, as X1, where it is nested before it is answered."""
    schemas = spec["components"]["schemas"]
    text = json.dumps(spec)
    for name in [name for name in schemas if re.fullmatch(r"\D+Schema\d+", name)]:
        text = text.replace(f'schemas/{name}"', f'schemas/{name.rstrip("0123456789")}"')
    renamed: dict[str, Any] = json.loads(text)
    kept = renamed["components"]["schemas"]
    for name in [name for name in kept if re.fullmatch(r"\D+Schema\d+", name)]:
        again = kept.pop(name)
        if again != kept[name.rstrip("0123456789")]:
            raise ValueError(f"{name} is another schema of the same name")
    return renamed
