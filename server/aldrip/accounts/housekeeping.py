"""What nobody needs any more goes: ended sessions, old wrong passwords, answers to keys."""

from datetime import timedelta

from axes.models import AccessAttempt, AccessFailureLog, AccessLog
from django.contrib.sessions.models import Session
from django.utils import timezone

from aldrip.accounts.models import Answered

KEYS = timedelta(days=7)  # a phone that was away for a week still sends nothing twice
WRONG_PASSWORDS = timedelta(days=30)
SIGN_INS = timedelta(days=90)


def sweep() -> dict[str, int]:
    """Delete what is over; how many rows of each went."""
    now = timezone.now()
    over = {
        "sessions": Session.objects.filter(expire_date__lt=now),
        "keys": Answered.objects.filter(made_at__lt=now - KEYS),
        "attempts": AccessAttempt.objects.filter(attempt_time__lt=now - WRONG_PASSWORDS),
        "failures": AccessFailureLog.objects.filter(attempt_time__lt=now - WRONG_PASSWORDS),
        "sign_ins": AccessLog.objects.filter(attempt_time__lt=now - SIGN_INS),
    }
    return {name: rows.delete()[0] for name, rows in over.items()}
