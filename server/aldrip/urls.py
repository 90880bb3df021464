"""The API, and the one page that the front end is."""

import logging
import mimetypes
from typing import Any

from django.conf import settings
from django.db import DatabaseError, connection
from django.http import HttpRequest, HttpResponse
from django.urls import path, re_path
from ninja import NinjaAPI
from ninja.errors import HttpError, ValidationError
from ninja.parser import Parser
from ninja.utils import check_csrf

from aldrip.accounts.api import open_router as session_router
from aldrip.accounts.api import room as accounts
from aldrip.accounts.context import context_of
from aldrip.accounts.routes import ROUTES
from aldrip.archive.api import open_router as first_archive_router
from aldrip.archive.api import room as archive
from aldrip.base.errors import FieldError, Forbidden, Refused, ServiceError, refused_problem
from aldrip.batches.api import room as batches
from aldrip.calc import contract
from aldrip.calc.apart import Apart
from aldrip.calc.calculators import CALCULATORS
from aldrip.deliveries.api import room as deliveries
from aldrip.deliveries.customers_api import room as customers
from aldrip.diary.api import room as diary
from aldrip.jobs.api import room as jobs
from aldrip.lots.api import room as lots
from aldrip.methods.api import open_router as offer_router
from aldrip.methods.api import room as methods
from aldrip.orders.api import room as orders
from aldrip.places.api import open_router as setup_router
from aldrip.places.api import room as places
from aldrip.season.api import room as season
from aldrip.seedcrops.api import room as seedcrops
from aldrip.sowing.api import room as sowing

log = logging.getLogger("aldrip.requests")

PROBLEM = "application/problem+json"
mimetypes.add_type("font/woff2", ".woff2")
calculators_apart = Apart()


class CleanParser(Parser):
    """JSON bodies, but for a character that no text of ours may hold and PostgreSQL does not store."""

    def parse_body(self, request: HttpRequest) -> Any:
        if b"\\u0000" in request.body or b"\x00" in request.body:
            raise Refused(
                [FieldError("", "unreadable", "There is a character in it that cannot be stored. Type it again.")]
            )
        return super().parse_body(request)


api = NinjaAPI(title="Aldrip", version="1", docs_url=None, parser=CleanParser())
for router in (
    session_router,
    setup_router,
    accounts.router,
    jobs.router,
    methods.router,
    places.router,
    diary.router,
    lots.router,
    orders.router,
    batches.router,
    sowing.router,
    seedcrops.router,
    deliveries.router,
    customers.router,
    season.router,
    archive.router,
    first_archive_router,
    offer_router,
):
    api.add_router("", router)


def _answer(request: HttpRequest, body: dict[str, Any], status: int) -> HttpResponse:
    answer = api.create_response(request, body, status=status)
    answer["Content-Type"] = PROBLEM
    return answer


@api.exception_handler(Refused)
def refused(request: HttpRequest, error: Refused) -> HttpResponse:
    return _answer(request, refused_problem(error.errors), 422)


@api.exception_handler(ServiceError)
def service_error(request: HttpRequest, error: ServiceError) -> HttpResponse:
    return _answer(request, error.problem(), error.status)


@api.exception_handler(Exception)
def broken(request: HttpRequest, error: Exception) -> HttpResponse:
    """What nobody foresaw: the log has it whole under the request's number, the person has the number."""
    number = getattr(request, "number", "")
    log.error("%s %s broke", request.method, request.path, exc_info=error, extra={"number": number})
    told = f"Something failed here, number {number}. Look whether it was saved before you do it again, and tell whoever looks after Aldrip the number."
    return _answer(request, ServiceError(told).problem() | {"status": 500, "code": "broken", "number": number}, 500)


@api.exception_handler(HttpError)
def http_error(request: HttpRequest, error: HttpError) -> HttpResponse:
    problem = ServiceError(
        "This could not be read: it is no JSON, or holds a character that cannot be stored."
    ).problem()
    return _answer(request, problem | {"status": error.status_code, "code": "unreadable"}, error.status_code)


@api.exception_handler(ValidationError)
def invalid(request: HttpRequest, error: ValidationError) -> HttpResponse:
    errors = []
    for fault in error.errors:
        place = [str(part) for part in fault["loc"] if part not in ("body", "query", "path", "file", "form")]
        place = place[1:] if len(place) > 1 and place[0] in ("body_params", "body") else place
        code = (fault.get("ctx") or {}).get("code") or contract.CODES.get(fault["type"], "wrong_type")
        errors.append(FieldError(".".join(place), code, contract.sentence_for(fault, code)))
    return _answer(request, refused_problem(errors), 422)


ROUTES.append(("POST", "/calc/{name}", "see"))


@api.post(
    "/calc/{name}",
    tags=["calculators"],
    openapi_extra={"requestBody": {"content": {"application/json": {"schema": {}}}}},
)
def calc(request: HttpRequest, name: str) -> HttpResponse:
    """A stateless calculator, for whoever is signed in: JSON in, result and its working out."""
    if check_csrf(request):
        raise Forbidden("This page is out of date. Reload it and try again.")
    context_of(request, "see")
    if name not in CALCULATORS:
        return _answer(
            request,
            contract.problem([FieldError("name", "unknown_calculator", f"There is no calculator “{name}”.")])
            | {"status": 404},
            404,
        )
    answered, text = calculators_apart.ask(name, request.body)
    if answered:
        return HttpResponse(text, content_type="application/json")
    return HttpResponse(text, status=422, content_type=PROBLEM)


def page(request: HttpRequest, rest: str = "") -> HttpResponse:
    """The front end's one page, with a nonce; it finds the room from the address."""
    built = settings.WEB_DIST / "index.html"
    if not built.exists():
        return HttpResponse(
            "The front end is not built. Start Aldrip with ./aldrip serve.", status=503, content_type="text/plain"
        )
    nonce = str(getattr(request, "csp_nonce", ""))  # reading it puts it into the policy
    answer = HttpResponse(built.read_text(encoding="utf-8").replace("__NONCE__", nonce))
    answer["Cache-Control"] = "no-store"
    return answer


def healthz(request: HttpRequest) -> HttpResponse:
    """Whether this process answers and reaches its database: for whoever watches it."""
    try:
        with connection.cursor() as cursor:
            cursor.execute("select 1")
    except DatabaseError:
        return HttpResponse("The database does not answer.\n", status=503, content_type="text/plain")
    return HttpResponse("ok\n", content_type="text/plain")


def missing(request: HttpRequest, rest: str = "") -> HttpResponse:
    problem = ServiceError("There is no such address.").problem() | {"status": 404, "code": "not_there"}
    return HttpResponse(contract.dumps(problem), status=404, content_type=PROBLEM)


urlpatterns = [
    path("api/", api.urls),
    path("healthz", healthz),
    re_path(r"^api/(?P<rest>.*)$", missing),
    re_path(r"^assets/(?P<rest>.*)$", missing),
    re_path(r"^(?P<rest>.*)$", page),
]
