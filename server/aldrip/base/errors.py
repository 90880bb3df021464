"""How the server says no: states with a code, a sentence and the data, turned into problem+json."""

from typing import Any

from aldrip_core.refusal import FieldError, Refused, refuse

__all__ = [
    "Busy",
    "Conflict",
    "Doubtful",
    "FieldError",
    "Forbidden",
    "LockedOut",
    "NotThere",
    "Refused",
    "ServiceError",
    "SignInNeeded",
    "refuse",
]


class ServiceError(Exception):
    """Base of the states that are not faults of a field."""

    status = 400
    code = "error"

    def __init__(self, message: str, **data: Any) -> None:
        super().__init__(message)
        self.message = message
        self.data = data

    def problem(self) -> dict[str, Any]:
        return {
            "type": "about:blank",
            "title": self.message,
            "status": self.status,
            "code": self.code,
            "errors": [{"field": "", "code": self.code, "message": self.message}],
            **self.data,
        }


class NotThere(ServiceError):
    """The thing does not exist, or belongs to somebody else."""

    status = 404
    code = "not_there"


class Doubtful(ServiceError):
    """A value that can be, and is far from what was to be expected: whoever typed it is asked before it is kept."""

    status = 422
    code = "doubtful"

    def problem(self) -> dict[str, Any]:
        field, ask = self.data["field"], self.data["ask"]
        return {
            **super().problem(),
            "errors": [{"field": field, "code": self.code, "message": self.message}],
            "ask": ask,
        }


class Forbidden(ServiceError):
    """The person's role does not allow it."""

    status = 403
    code = "forbidden"


class SignInNeeded(ServiceError):
    """Nobody is signed in."""

    status = 401
    code = "sign_in"


class LockedOut(ServiceError):
    """Too many wrong passwords."""

    status = 429
    code = "locked"


class Busy(ServiceError):
    """Too much of the same at once; in a moment there is room again."""

    status = 503
    code = "busy"


class Conflict(ServiceError):
    """Somebody saved first; both values are in the answer."""

    status = 409
    code = "changed_meanwhile"


def refused_problem(errors: list[FieldError] | tuple[FieldError, ...]) -> dict[str, Any]:
    """Faults of fields as problem+json."""
    return {
        "type": "about:blank",
        "title": "Not saved: something in it needs mending",
        "status": 422,
        "code": "refused",
        "errors": [{"field": e.field, "code": e.code, "message": e.message} for e in errors],
    }
