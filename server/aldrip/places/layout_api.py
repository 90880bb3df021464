"""Beds laid out in a house: typed as a person measures, answered with where each bed lies."""

from typing import Any

from django.http import HttpResponse
from ninja import Field, Query, Schema

from aldrip.accounts.context import Ctx
from aldrip.accounts.routes import Room
from aldrip.base.pdf import answer_pdf, pdf
from aldrip.base.quantity import read_count, read_measure, read_measures
from aldrip.base.schemas import StepOut, steps
from aldrip.base.words import day, number
from aldrip_core.bed_layout import BedLayout, bed_edges_m, bed_layout, bed_plants
from aldrip_core.bed_water import cover_sheets, drip_lines, watering
from aldrip_core.pots import PotStand, pot_middles, pot_stands

room = Room("places")
SEEN_M = 2.0  # of a bed, that is drawn pot by pot
MOST_SEEN = 600
Typed = Field("", max_length=40)


class BedsIn(Schema):
    """Lengths as typed, in metres where no unit stands (“46 ft”, “30 in”); empty where nothing is asked."""

    house_length: str = Typed
    house_width: str = Typed
    end_clearance: str = Typed
    bed_width: str = Typed
    path_width: str = Typed
    outer_paths: bool = True
    beds: str = Field("", max_length=40)
    bed_length: str = Field("", max_length=40)
    rows: str = Field("", max_length=40)
    in_row: str = Field("", max_length=40)
    pot: str = Field("", max_length=40)  # across, cm
    apart: str = Field("", max_length=80)  # from middle to middle, cm, one after another as they are spaced
    staggered: bool = False
    pots: str = Field("", max_length=40)  # wanted
    lines: str = Field("", max_length=40)
    emitter_apart: str = Field("30 cm", max_length=40)
    emitter_flow: str = Field("1.6", max_length=40)
    water: str = Field("", max_length=40)
    sheet: str = Field("", max_length=40)
    overlap: str = Field("0.5", max_length=40)
    held: str = Field("0.5", max_length=40)


class PotAtOut(Schema):
    along: float
    across: float


class PotsOut(Schema):
    """Pots at a distance [m]; `middles_m`: where they stand on the first metres of a bed, along and across it."""

    apart_m: float
    rows: int
    a_bed: int
    pots: int
    net_per_m2: float
    gross_per_m2: float
    beds_for: int | None
    middles_m: list[PotAtOut]


class DripOut(Schema):
    lines: int
    metres: float
    emitters: int
    litres_an_hour: float


class WateringOut(Schema):
    """`minutes`: how long it runs, where lines lie; `litres_a_plant`: where plants stand."""

    mm: float
    litres: float
    minutes: float | None
    litres_a_plant: float | None


class SheetsOut(Schema):
    sheets: int
    length_m: float
    metres: float


class BedsOut(Schema):
    """Lengths in metres; `edges_m`: where each bed begins across the house. Net is of the beds, gross of the house."""

    house_length_m: float
    house_width_m: float
    bed_width_m: float
    path_width_m: float
    beds: int
    bed_length_m: float
    edges_m: list[float]
    net_m2: float
    gross_m2: float
    share_used: float
    plants: int | None
    net_per_m2: float | None
    gross_per_m2: float | None
    pot_m: float | None
    pots_wanted: int | None
    pots: list[PotsOut]
    drip: DripOut | None
    watering: WateringOut | None
    cover: SheetsOut | None
    working: list[StepOut]


@room.post("/places/layout", "see", response=BedsOut)
def lay_out(ctx: Ctx, body: BedsIn) -> Any:
    """Beds along a house; where what is asked does not fit, what would and the smallest house."""
    del ctx
    return _laid(body)


@room.get("/places/layout.pdf", "see")
def bed_card(ctx: Ctx, body: Query[BedsIn]) -> HttpResponse:
    """The same on A5, to lay out by; with nothing said, empty lines to fill by hand."""
    if not body.house_length.strip() and not body.house_width.strip():
        facts = {"blank": True, "organisation": ctx.organisation.name, "day_words": day(ctx.today, year=True)}
        return answer_pdf("bed-card", pdf("print/beds.html", facts))
    laid = _laid(body)
    facts = {
        **laid,
        "organisation": ctx.organisation.name,
        "day_words": day(ctx.today, year=True),
        "edges": [{"begins": edge, "ends": edge + laid["bed_width_m"]} for edge in laid["edges_m"]],
        "pot_cm": (laid["pot_m"] or 0.0) * 100,
        "plants": number(laid["plants"]) if laid["plants"] else "",
        "pots_wanted": number(laid["pots_wanted"]) if laid["pots_wanted"] else "",
        "pots": [
            {
                "apart": f"{one['apart_m'] * 100:g}",
                "rows": one["rows"],
                "a_bed": number(one["a_bed"]),
                "pots": number(one["pots"]),
                "beds_for": one["beds_for"],
                "too_many": (one["beds_for"] or 0) > laid["beds"],
            }
            for one in laid["pots"]
        ],
    }
    return answer_pdf("bed-card", pdf("print/beds.html", facts))


def _pots(body: BedsIn, layout: BedLayout, bed_width_m: float, gross: float) -> tuple[PotStand, ...]:
    """Pots as they are spaced, where somebody asked for them. Raises Refused."""
    if not body.pot.strip() and not body.apart.strip():
        return ()
    return pot_stands(
        beds=layout.beds,
        bed_length_m=layout.bed_length_m,
        bed_width_m=bed_width_m,
        gross_m2=gross,
        pot_m=read_measure(body.pot or "0", "cm", "pot") / 100,
        apart_m=[one / 100 for one in read_measures(body.apart, "cm", "apart")],
        staggered=body.staggered,
        wanted=read_count(body.pots, "pots", "pots") if body.pots.strip() else None,
    )


def _middles(
    body: BedsIn, stand: PotStand, layout: BedLayout, bed_width_m: float, pot_m: float
) -> list[dict[str, float]]:
    long = max(pot_m, min(SEEN_M, layout.bed_length_m))
    if stand.rows * (long / stand.apart_m + 1) > MOST_SEEN:
        return []  # nobody could tell one from another
    found = pot_middles(long_m=long, wide_m=bed_width_m, pot_m=pot_m, apart_m=stand.apart_m, staggered=body.staggered)
    return [{"along": along, "across": across} for along, across in found]


def _laid(body: BedsIn) -> dict[str, Any]:
    names = ("house_length", "house_width", "end_clearance", "bed_width", "path_width")
    m = {f"{name}_m": read_measure(getattr(body, name), "m", name) for name in names}
    layout = bed_layout(
        **m,
        outer_paths=body.outer_paths,
        wanted_beds=read_count(body.beds, "beds", "beds") if body.beds.strip() else None,
        wanted_length_m=read_measure(body.bed_length, "m", "bed_length") if body.bed_length.strip() else None,
    )
    house = {name: m[name] for name in ("house_length_m", "house_width_m")}
    planted = None
    if body.rows.strip() or body.in_row.strip():
        planted = bed_plants(
            layout,
            rows=read_count(body.rows or "1", "rows", "rows"),
            in_row_m=read_measure(body.in_row or "0", "m", "in_row"),
            bed_width_m=m["bed_width_m"],
            **house,
        )
    gross = house["house_length_m"] * house["house_width_m"]
    potted = _pots(body, layout, m["bed_width_m"], gross)
    pot_m = read_measure(body.pot or "0", "cm", "pot") / 100 if potted else None
    drip = water = cover = None
    if body.lines.strip():
        drip = drip_lines(
            beds=layout.beds,
            bed_length_m=layout.bed_length_m,
            lines_a_bed=read_count(body.lines, "lines", "lines"),
            apart_m=read_measure(body.emitter_apart, "m", "emitter_apart"),
            emitter_l_h=read_measure(body.emitter_flow, "L", "emitter_flow"),
        )
    if body.water.strip():
        mm = read_measure(body.water, "mm", "water")
        water = watering(
            area_m2=layout.net_area_m2,
            mm=mm,
            litres_an_hour=drip.litres_an_hour if drip else None,
            plants=planted.plants if planted else potted[-1].pots if potted else None,
        )
    if body.sheet.strip():
        cover = cover_sheets(
            across_m=layout.beds * m["bed_width_m"] + (layout.beds - 1) * m["path_width_m"],
            along_m=layout.bed_length_m,
            sheet_m=read_measure(body.sheet, "m", "sheet"),
            overlap_m=read_measure(body.overlap or "0", "m", "overlap"),
            held_m=read_measure(body.held or "0", "m", "held"),
        )
    across = {name: m[name] for name in ("house_width_m", "bed_width_m", "path_width_m")}
    return {
        **house,
        **across,
        "beds": layout.beds,
        "bed_length_m": layout.bed_length_m,
        "edges_m": bed_edges_m(layout.beds, **across),
        "net_m2": layout.net_area_m2,
        "gross_m2": gross,
        "share_used": layout.share_used,
        "plants": planted.plants if planted else None,
        "net_per_m2": planted.net_per_m2 if planted else None,
        "gross_per_m2": planted.gross_per_m2 if planted else None,
        "pot_m": pot_m,
        "pots_wanted": read_count(body.pots, "pots", "pots") if potted and body.pots.strip() else None,
        "pots": [
            {
                **{name: getattr(one, name) for name in PotsOut.model_fields if name != "middles_m"},
                "middles_m": _middles(body, one, layout, m["bed_width_m"], pot_m or 0.0),
            }
            for one in potted
        ],
        "drip": drip,
        "watering": water
        and {name: getattr(water, name) for name in ("litres", "minutes", "litres_a_plant")} | {"mm": mm},
        "cover": cover,
        "working": steps(
            tuple(
                step
                for one in (layout, planted, *potted, drip, water, cover)
                if one is not None
                for step in one.working
            )
        ),
    }
