"""The API, and the one page that the front end is."""

import logging
import mimetypes
from typing import Any

from django.conf import settings
from django.db import DatabaseError, IntegrityError, InterfaceError, OperationalError, connection
from django.db.migrations.executor import MigrationExecutor
from django.http import HttpRequest, HttpResponse
from django.urls import path, re_path
from django.utils.datastructures import MultiValueDict
from ninja import NinjaAPI
from ninja.errors import HttpError, ValidationError
from ninja.parser import Parser
from ninja.utils import check_csrf

from aldrip.accounts.api import open_router as session_router
from aldrip.accounts.api import room as accounts
from aldrip.accounts.context import context_of
from aldrip.accounts.once import in_the_way, sqlstate
from aldrip.accounts.people_api import open_router as link_router
from aldrip.accounts.people_api import room as people
from aldrip.accounts.routes import ROUTES
from aldrip.archive.api import open_router as first_archive_router
from aldrip.archive.api import room as archive
from aldrip.base import limits
from aldrip.base.errors import Conflict, FieldError, Forbidden, Refused, ServiceError, refused_problem
from aldrip.base.requests import TookTooLong
from aldrip.batches.api import room as batches
from aldrip.batches.asking_api import room as asking
from aldrip.batches.buying_api import room as buying
from aldrip.batches.levelling_api import room as levelling
from aldrip.batches.questions_api import room as questions
from aldrip.batches.weather_api import room as weather
from aldrip.calc import contract
from aldrip.calc.apart import Apart
from aldrip.calc.calculators import CALCULATORS
from aldrip.deliveries.api import room as deliveries
from aldrip.deliveries.customers_api import room as customers
from aldrip.diary.api import open_router as calendar_router
from aldrip.diary.api import room as diary
from aldrip.diary.applications_api import room as applied
from aldrip.diary.clocks_api import room as clocks
from aldrip.jobs.api import room as jobs
from aldrip.lots.api import room as lots
from aldrip.lots.media_api import room as media
from aldrip.lots.packing_api import room as packing
from aldrip.lots.treating_api import room as treating
from aldrip.methods.api import open_router as offer_router
from aldrip.methods.api import room as methods
from aldrip.orders.api import room as orders
from aldrip.places.api import open_router as setup_router
from aldrip.places.api import room as places
from aldrip.places.layout_api import room as bed_layout
from aldrip.season.api import room as season
from aldrip.seedcrops.api import room as seedcrops
from aldrip.sowing.api import room as sowing
from aldrip.sowing.feeds_api import room as feeds
from aldrip.sowing.grafting_api import room as grafting
from aldrip.sowing.sowers_api import room as sowers
from aldrip.sowing.stage_cards_api import room as stage_cards
from aldrip.sowing.trays_api import room as trays
from aldrip.stockplants.api import room as stockplants
from aldrip.stockplants.planning_api import room as mother_plans
from aldrip.stockplants.traps_api import room as traps
from aldrip.stockplants.tuber_store_api import room as tubers

log = logging.getLogger("aldrip.requests")

PROBLEM = "application/problem+json"
mimetypes.add_type("font/woff2", ".woff2")
calculators_apart = Apart()


class CleanParser(Parser):
    """Bodies and questions within the limits that hold everywhere."""

    def parse_body(self, request: HttpRequest) -> Any:
        return limits.read_json(request.body)

    def parse_querydict(self, data: MultiValueDict[str, Any], list_fields: list[str], request: HttpRequest) -> Any:
        found = super().parse_querydict(data, list_fields, request)
        limits.check(found)
        return found


api = NinjaAPI(title="Aldrip", version="1", docs_url=None, parser=CleanParser())
for router in (
    session_router,
    setup_router,
    link_router,
    accounts.router,
    people.router,
    jobs.router,
    methods.router,
    places.router,
    bed_layout.router,
    diary.router,
    clocks.router,
    applied.router,
    lots.router,
    packing.router,
    treating.router,
    media.router,
    orders.router,
    batches.router,
    asking.router,
    buying.router,
    levelling.router,
    questions.router,
    weather.router,
    sowing.router,
    grafting.router,
    stage_cards.router,
    trays.router,
    sowers.router,
    feeds.router,
    stockplants.router,
    tubers.router,
    traps.router,
    mother_plans.router,
    seedcrops.router,
    deliveries.router,
    customers.router,
    season.router,
    archive.router,
    first_archive_router,
    calendar_router,
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


SAME_MOMENT = "Somebody saved the same at the same moment; nothing of yours was. Look at it, and try again."
AWAY = "The database is away for a moment; nothing was saved. It is started again by itself: try again."
BROKEN = "Something failed here, number {number}. Look whether it was saved before you do it again, and tell whoever looks after Aldrip the number."
TOO_MUCH = "This took longer, or more memory, than one request is given. Nothing was saved. Ask for less at once."
BUSY = "Somebody else is saving something large. Nothing of yours was saved; try again in a moment."
IMPOSSIBLE = (
    "This cannot be saved: a rule of the database forbids it. Nothing was changed. Look at it anew, and try again."
)


@api.exception_handler(Exception)
def broken(request: HttpRequest, error: Exception) -> HttpResponse:
    """What nobody foresaw: the log has it whole under the request's number, the person has the number."""
    number = getattr(request, "number", "")
    if isinstance(error, TookTooLong | MemoryError) or sqlstate(error) in ("57014", "25P03"):
        return _answer(request, ServiceError(TOO_MUCH).problem() | {"status": 503, "code": "too_much"}, 503)
    if sqlstate(error) == "55P03":
        return _answer(request, ServiceError(BUSY).problem() | {"status": 503, "code": "busy"}, 503)
    if in_the_way(request, error):
        return _answer(request, Conflict(SAME_MOMENT).problem(), Conflict.status)
    if isinstance(error, IntegrityError):
        log.warning("%s %s met a rule", request.method, request.path, exc_info=error, extra={"number": number})
        return _answer(request, refused_problem([FieldError("", "impossible", IMPOSSIBLE)]), 422)
    log.error("%s %s broke", request.method, request.path, exc_info=error, extra={"number": number})
    if isinstance(error, OperationalError | InterfaceError) and not sqlstate(error):
        return failed(request)  # the line to the database broke
    told = BROKEN.format(number=number)
    return _answer(request, ServiceError(told).problem() | {"status": 500, "code": "broken", "number": number}, 500)


@api.exception_handler(HttpError)
def http_error(request: HttpRequest, error: HttpError) -> HttpResponse:
    if isinstance(error.__cause__, Refused):  # the parser's own words, at the field
        return refused(request, error.__cause__)
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


def readyz(request: HttpRequest) -> HttpResponse:
    """Whether this process may be sent people: its database answers and is of this version."""
    try:
        executor = MigrationExecutor(connection)
        waiting = executor.migration_plan(executor.loader.graph.leaf_nodes())
    except DatabaseError:
        return HttpResponse("The database does not answer.\n", status=503, content_type="text/plain")
    if waiting:
        return HttpResponse("The database is of another version.\n", status=503, content_type="text/plain")
    return HttpResponse("ready\n", content_type="text/plain")


def missing(request: HttpRequest, rest: str = "") -> HttpResponse:
    problem = ServiceError("There is no such address.").problem() | {"status": 404, "code": "not_there"}
    return HttpResponse(contract.dumps(problem), status=404, content_type=PROBLEM)


def failed(request: HttpRequest) -> HttpResponse:
    """What broke before any room was asked: as a rule the database was away for a moment, and is started again."""
    try:
        connection.ensure_connection()
    except DatabaseError:
        problem = ServiceError(AWAY).problem() | {"status": 503, "code": "away"}
        return HttpResponse(contract.dumps(problem), status=503, content_type=PROBLEM, headers={"Retry-After": "2"})
    number = getattr(request, "number", "")
    problem = ServiceError(BROKEN.format(number=number)).problem() | {"status": 500, "code": "broken", "number": number}
    return HttpResponse(contract.dumps(problem), status=500, content_type=PROBLEM)


handler500 = failed

urlpatterns = [
    path("api/", api.urls),
    path("healthz", healthz),
    path("readyz", readyz),
    re_path(r"^api/(?P<rest>.*)$", missing),
    re_path(r"^assets/(?P<rest>.*)$", missing),
    re_path(r"^(?P<rest>.*)$", page),
]
