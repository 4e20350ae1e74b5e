"""Who is signed in; signing in and out."""

from __future__ import annotations

from django.contrib.auth import authenticate, login, logout, update_session_auth_hash
from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.cache import cache
from django.core.exceptions import ValidationError
from django.http import HttpRequest
from django.views.decorators.csrf import csrf_protect
from ninja import Field, Router, Schema
from ninja.decorators import decorate_view
from ninja.errors import HttpError

from yama.service.accounts.people import person
from yama.service.schemas import Failure

router = Router(tags=["accounts"])

_WINDOW_SECONDS = 600
_TRIES_OF_ONE = 6
"""For one name from one address: somebody who guesses."""
_TRIES_OF_NAME, _TRIES_OF_ADDRESS = 60, 60
"""For one name from anywhere, and from one address for any name: higher, since others share them who do nothing wrong."""


class Me(Schema):
    """The person signed in. has_password: otherwise only a link signs them in."""

    id: int
    name: str
    initials: str
    has_password: bool


class SignIn(Schema):
    """A user name and its password."""

    name: str
    password: str


def _me(request: HttpRequest) -> Me:
    user = person(request)
    full = user.get_full_name() or user.get_username()
    initials = "".join(word[0] for word in full.split()[:2]).upper()
    return Me(id=user.pk, name=full, initials=initials, has_password=user.has_usable_password())


def _count_try(key: str) -> int:
    cache.add(key, 0, _WINDOW_SECONDS)
    try:
        return int(cache.incr(key))
    except ValueError:  # it expired in between
        return 1


@router.get("/me", response=Me)
def me(request: HttpRequest) -> Me:
    """The person signed in; 401 where nobody is."""
    return _me(request)


@router.post("/sign-in", response={200: Me, 401: Failure, 429: Failure}, auth=None)
@decorate_view(csrf_protect)
def sign_in(request: HttpRequest, body: SignIn) -> Me:
    """Sign in with a password. Six failures for one name from one address close it for ten minutes."""
    name, address = hash_name(body.name), request.META.get("REMOTE_ADDR", "")
    limits = {
        f"sign-in:one:{name}:{address}": _TRIES_OF_ONE,
        f"sign-in:name:{name}": _TRIES_OF_NAME,
        f"sign-in:from:{address}": _TRIES_OF_ADDRESS,
    }
    # all are counted, whichever is over
    if any([_count_try(key) > most for key, most in limits.items()]):  # noqa: C419
        raise HttpError(429, "Too many tries. Wait ten minutes, then try again.")
    user = authenticate(request, username=body.name, password=body.password)
    if user is None:
        raise HttpError(401, "Name or password is wrong.")
    cache.delete(f"sign-in:one:{name}:{address}")
    login(request, user)
    return _me(request)


def hash_name(name: str) -> str:
    """A cache-safe form of whatever somebody typed as a name."""
    return name.strip().lower().encode().hex()[:120]


def count_tries(request: HttpRequest, what: str) -> None:
    """Refuse an address that tries something too often, such as links that it guesses."""
    if _count_try(f"{what}:{request.META.get('REMOTE_ADDR', '')}") > _TRIES_OF_ADDRESS:
        raise HttpError(429, "Too many tries. Wait ten minutes, then try again.")


def checked_password(password: str, user: User) -> str:
    """A password that is good enough; refused with what is wrong with it otherwise."""
    try:
        validate_password(password, user)
    except ValidationError as error:
        raise HttpError(422, " ".join(error.messages)) from error
    return password


class PasswordIn(Schema):
    """A new password; the one until now where there is one."""

    now: str = Field("", max_length=200)
    new: str = Field(max_length=200)


@router.post("/password", response={204: None, 403: Failure, 422: Failure, 429: Failure})
def set_password(request: HttpRequest, body: PasswordIn) -> tuple[int, None]:
    """Change the password of the person signed in. Their other sessions end; this one goes on."""
    user = person(request)
    if _count_try(f"password:{user.pk}") > _TRIES_OF_ONE:
        raise HttpError(429, "Too many tries. Wait ten minutes, then try again.")
    if user.has_usable_password() and not user.check_password(body.now):
        raise HttpError(403, "The password until now is another.")
    user.set_password(checked_password(body.new, user))
    user.save(update_fields=["password"])
    update_session_auth_hash(request, user)
    cache.delete(f"password:{user.pk}")
    return 204, None


@router.post("/sign-out", response={204: None})
def sign_out(request: HttpRequest) -> tuple[int, None]:
    """End the session."""
    logout(request)
    return 204, None
