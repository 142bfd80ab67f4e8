"""Signing in by an identity provider: OpenID Connect Core 1.0, the code flow with PKCE (RFC 7636).

The provider vouches for who somebody is; which of its groups have which role is a setting here.
"""

from __future__ import annotations

import logging
from collections.abc import Mapping
from typing import Any

import requests
from apiflask import APIBlueprint
from authlib.common.security import generate_token
from authlib.integrations.requests_client import OAuth2Session
from flask import current_app, redirect, request, session
from joserfc import jwt
from joserfc.jwk import KeySet
from sqlalchemy.orm import Session

from gambrel.api.people import provider_settings, redirect_uri
from gambrel.api.sessions import begun, enter, limiter, planning
from gambrel.store import people
from gambrel.store.sealing import Sealer

blueprint = APIBlueprint("provider", __name__, tag="Session", url_prefix="/api/v1/session/provider")
log = logging.getLogger(__name__)

ANSWER_WITHIN_S = 10
SCOPE = "openid profile email"
ALGORITHMS = ["RS256", "ES256", "PS256", "EdDSA"]
LATE_BY_S = 60
"""By how much the clocks of both may differ."""


class NotLetIn(Exception):
    """Why the provider's word lets nobody in: one of the words that the sign-in page knows."""


def _metadata(settings: Mapping[str, Any]) -> dict[str, Any]:
    address = f"{settings['issuer'].rstrip('/')}/.well-known/openid-configuration"
    found = requests.get(address, timeout=ANSWER_WITHIN_S)
    found.raise_for_status()
    told: dict[str, Any] = found.json()
    if told.get("issuer") != settings["issuer"]:
        raise NotLetIn("provider")
    return told


def _client(settings: Mapping[str, Any]) -> OAuth2Session:
    sealer: Sealer = current_app.extensions["gambrel-sealer"]
    sealed = settings.get("sealed_secret", "")
    return OAuth2Session(
        settings["client_id"],
        sealer.open(sealed) if sealed else None,
        scope=SCOPE,
        redirect_uri=redirect_uri(),
        code_challenge_method="S256",
        token_endpoint_auth_method="client_secret_basic" if sealed else "none",
    )


@blueprint.get("")
@limiter.limit("30 per minute")
@blueprint.doc(responses={302: "To the identity provider, or back to the sign-in page."})
def to_provider() -> Any:
    """Go to the identity provider to sign in there."""
    settings = provider_settings()
    if not settings["issuer"]:
        return redirect("/sign-in?why=provider")
    try:
        told = _metadata(settings)
    except (requests.RequestException, ValueError, NotLetIn):
        log.exception("the identity provider cannot be asked")
        return redirect("/sign-in?why=provider")
    nonce, verifier = generate_token(30), generate_token(60)
    address, state = _client(settings).create_authorization_url(
        told["authorization_endpoint"], nonce=nonce, code_verifier=verifier
    )
    session["provider"] = {"state": state, "nonce": nonce, "verifier": verifier}
    return redirect(address)


@blueprint.get("/back")
@limiter.limit("30 per minute")
@blueprint.doc(responses={302: "To the first view, or back to the sign-in page."})
def from_provider() -> Any:
    """Come back from the identity provider, signed in where it and a group of theirs say so."""
    kept = session.pop("provider", None)
    try:
        if not kept or request.args.get("state") != kept["state"] or "code" not in request.args:
            raise NotLetIn("begun")
        enter(_session_of(provider_settings(), kept, request.args["code"]))
    except NotLetIn as why:
        return redirect(f"/sign-in?why={why}")
    except Exception:
        log.exception("the word of the identity provider cannot be taken")
        return redirect("/sign-in?why=provider")
    return redirect("/")


def _session_of(settings: Mapping[str, Any], kept: Mapping[str, str], code: str) -> str:
    """The key of a session of whom the provider vouches for. Raises NotLetIn."""
    told = _metadata(settings)
    given = _client(settings).fetch_token(
        told["token_endpoint"], code=code, code_verifier=kept["verifier"], timeout=ANSWER_WITHIN_S
    )
    keys = requests.get(told["jwks_uri"], timeout=ANSWER_WITHIN_S).json()
    claims = jwt.decode(
        given["id_token"], KeySet.import_key_set(keys), algorithms=ALGORITHMS
    ).claims
    jwt.JWTClaimsRegistry(
        leeway=LATE_BY_S,
        iss={"essential": True, "value": settings["issuer"]},
        aud={"essential": True, "value": settings["client_id"]},
        exp={"essential": True},
        sub={"essential": True},
        nonce={"essential": True, "value": kept["nonce"]},
    ).validate(claims)
    role = role_of(claims.get(settings["groups_claim"], []), settings["roles"])
    if role is None:
        raise NotLetIn("groups")
    name = str(claims.get("name") or claims.get("preferred_username") or claims["sub"])

    def begin(db: Session) -> str | None:
        found = people.person_of_provider(db, settings["issuer"], str(claims["sub"]), name, role)
        return None if found is None else begun(db, found.id)

    key = planning().write(begin)
    if key is None:
        raise NotLetIn("barred")
    return key


def role_of(groups: Any, roles: Mapping[str, list[str]]) -> str | None:
    """The highest role that any of some groups has; None where none has one."""
    mine = {groups} if isinstance(groups, str) else set(map(str, groups or ()))
    found = [role for role in people.ROLES if mine & set(roles.get(role, ()))]
    return found[-1] if found else None
