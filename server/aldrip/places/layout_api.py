"""Beds laid out in a house: typed as a person measures, answered with where each bed lies."""

from typing import Any

from ninja import Field, Schema

from aldrip.accounts.context import Ctx
from aldrip.accounts.routes import Room
from aldrip.base.quantity import read_count, read_measure
from aldrip.base.schemas import StepOut, steps
from aldrip_core.bed_layout import bed_edges_m, bed_layout, bed_plants
from aldrip_core.bed_water import cover_sheets, drip_lines, watering

room = Room("places")
Typed = Field(max_length=40)


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
    lines: str = Field("", max_length=40)
    emitter_apart: str = Field("30 cm", max_length=40)
    emitter_flow: str = Field("1.6", max_length=40)
    water: str = Field("", max_length=40)
    sheet: str = Field("", max_length=40)
    overlap: str = Field("0.5", max_length=40)
    held: str = Field("0.5", max_length=40)


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
    drip: DripOut | None
    watering: WateringOut | None
    cover: SheetsOut | None
    working: list[StepOut]


@room.post("/places/layout", "see", response=BedsOut)
def lay_out(ctx: Ctx, body: BedsIn) -> Any:
    """Beds along a house; where what is asked does not fit, what would and the smallest house."""
    del ctx
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
            plants=planted.plants if planted else None,
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
        "gross_m2": house["house_length_m"] * house["house_width_m"],
        "share_used": layout.share_used,
        "plants": planted.plants if planted else None,
        "net_per_m2": planted.net_per_m2 if planted else None,
        "gross_per_m2": planted.gross_per_m2 if planted else None,
        "drip": drip,
        "watering": water
        and {name: getattr(water, name) for name in ("litres", "minutes", "litres_a_plant")} | {"mm": mm},
        "cover": cover,
        "working": steps(
            tuple(step for one in (layout, planted, drip, water, cover) if one is not None for step in one.working)
        ),
    }
