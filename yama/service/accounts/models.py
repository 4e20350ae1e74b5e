"""One-time links. People themselves are Django's users."""

from __future__ import annotations

import hashlib
import secrets
from datetime import timedelta

from django.conf import settings
from django.contrib.auth.models import User
from django.db import models, transaction
from django.utils import timezone


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


class OneTimeLink(models.Model):
    """A link that signs one person in, once, within a day. Only its hash is kept."""

    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE)
    digest = models.CharField(max_length=64, unique=True)
    expires_at = models.DateTimeField()

    @classmethod
    def issue(cls, user: User, lifetime: timedelta = timedelta(days=1)) -> str:
        """A new token; the only time it is seen."""
        token = secrets.token_urlsafe(24)
        cls.objects.create(user=user, digest=_digest(token), expires_at=timezone.now() + lifetime)
        return token

    @classmethod
    def redeem(cls, token: str) -> User | None:
        """The user of a token, which is spent by this; None where it is unknown, spent or too old."""
        with transaction.atomic():
            link = cls.objects.select_for_update().filter(digest=_digest(token)).select_related("user").first()
            if link is None:
                return None
            user = link.user if link.expires_at > timezone.now() and link.user.is_active else None
            link.delete()
            return user
