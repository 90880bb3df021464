"""Seed crops: blocks, flowering, isolation, inspections, harvest, and the way to a released lot."""

from typing import Any

from django.http import HttpResponse

from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.routes import Room
from aldrip.base.pdf import answer_pdf, pdf
from aldrip.base.quantity import read_measure
from aldrip.base.schemas import Done, steps
from aldrip.lots.models import Lot
from aldrip.lots.processing import Cleaned, Dried, Load, Part
from aldrip.seedcrops import blocks, flowering, harvesting, inspecting, isolation, neighbours, parts, reading, signing
from aldrip.seedcrops.laying import LayoutChange, load_block
from aldrip.seedcrops.printing import drill_facts, rows_facts
from aldrip.seedcrops.schemas import (
    AllInIn,
    BlockOut,
    CleanIn,
    CountedOut,
    DispenseIn,
    DropClassIn,
    DryIn,
    EntriesIn,
    ForgetIn,
    HarvestIn,
    HivesIn,
    InspectionOut,
    IsolationOut,
    KeepLayoutIn,
    LayOutIn,
    LayoutIn,
    LayoutPreviewOut,
    MadeOut,
    MaleOutIn,
    NeighbourIn,
    RejectPartIn,
    RemedyIn,
    SchemeIn,
    SeedCropOut,
    SeenIn,
    SignIn,
    SowIn,
    VerdictIn,
    VersionIn,
)

room = Room("seed crops")


def _worked(value: Any) -> Any:
    """Workings inside an answer as plain data."""
    if isinstance(value, dict):
        return {k: steps(v) if k == "working" else _worked(v) for k, v in value.items()}
    if isinstance(value, list):
        return [_worked(v) for v in value]
    return value


def _block(ctx: Ctx, block_id: Ref) -> Any:
    found = load_block(ctx, block_id)
    return {
        **_worked(reading.block_out(ctx, found)),
        "can_undo": blocks.last_change(ctx, found) is not None,
        "acts_of": [found.uuid, found.batch.uuid, *found.inspections.values_list("uuid", flat=True)],
    }


@room.get("/seed-crops", "see", response=list[SeedCropOut])
def seed_crops(ctx: Ctx) -> Any:
    return reading.crops(ctx)


@room.post("/seed-blocks", "seedcrops.plan", response=BlockOut)
def lay_out(ctx: Ctx, body: LayOutIn) -> Any:
    """Lay a batch of seed out on its field."""
    return _block(ctx, blocks.lay_out(ctx, **body.dict()).pk)


@room.get("/seed-blocks/{ref:block_id}", "see", response=BlockOut)
def block(ctx: Ctx, block_id: Ref) -> Any:
    return _block(ctx, block_id)


@room.post("/seed-blocks/{ref:block_id}/preview", "seedcrops.plan", response=LayoutPreviewOut)
def preview(ctx: Ctx, block_id: Ref, body: LayoutIn) -> Any:
    """What a change of the layout would do; nothing is saved."""
    return _worked(reading.preview(ctx, load_block(ctx, block_id), LayoutChange(**body.dict())))


@room.post("/seed-blocks/{ref:block_id}/keep", "seedcrops.plan", response=BlockOut)
def keep(ctx: Ctx, block_id: Ref, body: KeepLayoutIn) -> Any:
    """Save a change of the layout under the version it was seen with."""
    given = body.dict()
    version = given.pop("version")
    return _block(ctx, blocks.keep(ctx, block_id, LayoutChange(**given), version=version).pk)


@room.post("/seed-blocks/{ref:block_id}/undo", "seedcrops.plan", response=BlockOut)
def undo(ctx: Ctx, block_id: Ref) -> Any:
    """Take back the last change of the layout."""
    return _block(ctx, blocks.undo(ctx, block_id).pk)


@room.post("/seed-blocks/{ref:block_id}/take-up", "seedcrops.plan", response=Done)
def take_up(ctx: Ctx, block_id: Ref, body: VersionIn) -> Any:
    """Take a layout up before anything was done on it."""
    batch = blocks.take_up(ctx, block_id, version=body.version)
    return {"id": batch.pk, "message": f"{batch.code} waits to be laid out again."}


@room.post("/class-scheme", "methods.edit", response=Done)
def choose_scheme(ctx: Ctx, body: SchemeIn) -> Any:
    """Which scheme of seed classes the house goes by."""
    scheme = blocks.choose_scheme(ctx, body.slug)
    return {"id": scheme.pk, "message": f"Seed classes go by “{scheme.name}”."}


@room.post("/seed-blocks/{ref:block_id}/sown", "seedcrops.do", response=BlockOut)
def sown(ctx: Ctx, block_id: Ref, body: SowIn) -> Any:
    """One line was sown."""
    kilos = read_measure(body.kg, "kg", "kg")
    blocks.sow(
        ctx,
        block_id,
        role=body.role,
        lot_id=body.lot_id,
        kg=kilos,
        on=body.on,
        client_uuid=body.client_uuid,
        rows=body.rows,
    )
    return _block(ctx, block_id)


@room.post("/seed-blocks/{ref:block_id}/seen", "seedcrops.count", response=BlockOut)
def seen(ctx: Ctx, block_id: Ref, body: SeenIn) -> Any:
    """A stage was seen on a parent."""
    flowering.observe(ctx, block_id, **body.dict())
    return _block(ctx, block_id)


@room.post("/seed-blocks/{ref:block_id}/remedies", "seedcrops.do", response=BlockOut)
def remedy(ctx: Ctx, block_id: Ref, body: RemedyIn) -> Any:
    """Choose or drop a remedy for the flowering match."""
    flowering.choose_remedy(ctx, block_id, **body.dict())
    return _block(ctx, block_id)


@room.post("/seed-blocks/{ref:block_id}/hives", "seedcrops.do", response=BlockOut)
def hives(ctx: Ctx, block_id: Ref, body: HivesIn) -> Any:
    """Hives are ordered for a day."""
    flowering.order_hives(ctx, block_id, hives=body.hives, on=body.on)
    return _block(ctx, block_id)


@room.get("/seed-blocks/{ref:block_id}/isolation", "see", response=IsolationOut)
def isolated(ctx: Ctx, block_id: Ref) -> Any:
    """Neighbours with their distances, breaches with three remedies."""
    return _worked(isolation.isolation_out(ctx, load_block(ctx, block_id)))


@room.post("/seed-blocks/{ref:block_id}/strip", "seedcrops.plan", response=IsolationOut)
def leave_strip(ctx: Ctx, block_id: Ref, body: VersionIn) -> Any:
    """Leave what lies too near."""
    isolation.leave_strip(ctx, block_id, version=body.version)
    return isolated(ctx, block_id)


@room.post("/seed-blocks/{ref:block_id}/class", "seedcrops.plan", response=IsolationOut)
def drop_class(ctx: Ctx, block_id: Ref, body: DropClassIn) -> Any:
    """Grow a block on as a lower class."""
    isolation.drop_class(ctx, block_id, seed_class=body.seed_class, version=body.version)
    return isolated(ctx, block_id)


@room.post("/neighbours", "seedcrops.count", response=Done)
def add_neighbour(ctx: Ctx, body: NeighbourIn) -> Any:
    """A neighbour's crop as it was seen."""
    row = neighbours.record_neighbour(ctx, neighbours.NeighbourSpec(**body.dict()))
    return {"id": row.pk, "message": f"{row.name} is on the map."}


@room.patch("/neighbours/{ref:neighbour_id}", "seedcrops.count", response=Done)
def change_neighbour(ctx: Ctx, neighbour_id: Ref, body: NeighbourIn) -> Any:
    row = neighbours.record_neighbour(ctx, neighbours.NeighbourSpec(**body.dict()), neighbour_id=neighbour_id)
    return {"id": row.pk, "message": f"{row.name} is changed."}


@room.post("/neighbours/{ref:neighbour_id}/forget", "seedcrops.plan", response=Done)
def forget_neighbour(ctx: Ctx, neighbour_id: Ref, body: ForgetIn) -> Any:
    row = neighbours.forget_neighbour(ctx, neighbour_id, reason=body.reason)
    return {"id": row.pk, "message": f"{row.name} no longer counts."}


@room.get("/inspections/{ref:inspection_id}", "see", response=InspectionOut)
def inspection(ctx: Ctx, inspection_id: Ref) -> Any:
    """A visit with its count, and the decision table that a phone needs without a signal."""
    return reading.inspection_out(ctx, inspecting.get_inspection(ctx, inspection_id))


@room.post("/inspections/{ref:inspection_id}/begin", "seedcrops.count", response=InspectionOut)
def begin(ctx: Ctx, inspection_id: Ref) -> Any:
    """Begin a count: its limits and areas are frozen."""
    inspecting.begin(ctx, inspection_id)
    return reading.inspection_out(ctx, inspecting.get_inspection(ctx, inspection_id))


@room.post("/inspections/{ref:inspection_id}/counts", "seedcrops.count", response=CountedOut)
def count(ctx: Ctx, inspection_id: Ref, body: EntriesIn) -> Any:
    """Entries of a count, each kept once."""
    entries = [inspecting.Entry(**one.dict()) for one in body.entries]
    kept = inspecting.count(ctx, inspection_id, entries)
    return {
        "entries": [{"client_uuid": k.client_uuid, "kept": k.kept, "code": k.code, "message": k.message} for k in kept],
        "inspection": reading.inspection_out(ctx, inspecting.get_inspection(ctx, inspection_id), with_table=False),
    }


@room.get("/inspections/{ref:inspection_id}/photos/{ref:entry}", "see")
def photo(ctx: Ctx, inspection_id: Ref, entry: Ref) -> HttpResponse:
    """A photo that was taken with an entry."""
    answer = HttpResponse(inspecting.photo_of(ctx, inspection_id, entry), content_type="image/jpeg")
    answer["Cache-Control"] = "private, max-age=31536000, immutable"
    return answer


@room.post("/inspections/{ref:inspection_id}/sign", "seedcrops.sign", response=InspectionOut)
def sign(ctx: Ctx, inspection_id: Ref, body: SignIn) -> Any:
    """Sign what follows a count."""
    signing.sign(ctx, inspection_id, decision=body.decision, reason=body.reason)
    return reading.inspection_out(ctx, inspecting.get_inspection(ctx, inspection_id))


@room.post("/inspections/{ref:inspection_id}/dispense", "seedcrops.sign", response=InspectionOut)
def dispense(ctx: Ctx, inspection_id: Ref, body: DispenseIn) -> Any:
    """Sign that a visit is dispensed with."""
    signing.dispense(ctx, inspection_id, given_by=body.given_by, reason=body.reason)
    return reading.inspection_out(ctx, inspecting.get_inspection(ctx, inspection_id))


@room.post("/inspections/{ref:inspection_id}/reject-part", "seedcrops.sign", response=InspectionOut)
def reject_part(ctx: Ctx, inspection_id: Ref, body: RejectPartIn) -> Any:
    """Sign that a part of the field along one side is rejected."""
    parts.reject_part(ctx, inspection_id, side=body.side, metres=body.metres, reason=body.reason)
    return reading.inspection_out(ctx, inspecting.get_inspection(ctx, inspection_id))


@room.post("/seed-blocks/{ref:block_id}/male-out", "seedcrops.do", response=BlockOut)
def male_out(ctx: Ctx, block_id: Ref, body: MaleOutIn) -> Any:
    """The male rows and borders are out."""
    harvesting.male_out(ctx, block_id, **body.dict())
    return _block(ctx, block_id)


@room.post("/seed-blocks/{ref:block_id}/all-in", "seedcrops.do", response=BlockOut)
def all_in(ctx: Ctx, block_id: Ref, body: AllInIn) -> Any:
    """The harvest is finished: nothing more comes."""
    harvesting.all_in(ctx, block_id, on=body.on)
    return _block(ctx, block_id)


@room.post("/seed-blocks/{ref:block_id}/harvest", "seedcrops.do", response=BlockOut)
def harvest(ctx: Ctx, block_id: Ref, body: HarvestIn) -> Any:
    """A load of the block at the door. Refused for the female while the male stands."""
    load = Load(
        read_measure(body.gross, "kg", "gross"),
        read_measure(body.tare or "0", "kg", "tare"),
        body.moisture_percent,
        body.purity_percent,
        body.pests,
        body.refused,
    )
    harvesting.harvest(
        ctx,
        block_id,
        load,
        on=body.on,
        equipment_clean=body.equipment_clean,
        client_uuid=body.client_uuid,
    )
    return _block(ctx, block_id)


@room.post("/lots/{ref:lot_id}/drying", "lots.process", response=MadeOut)
def dry(ctx: Ctx, lot_id: Ref, body: DryIn) -> Any:
    """A lot was dried; the water leaves its balance."""
    after = read_measure(body.mass_after, "kg", "mass_after") if body.mass_after.strip() else None
    lot = harvesting.dry(ctx, lot_id, Dried(body.to_percent, body.on, body.client_uuid, after, body.reason))
    return {"id": lot.pk, "code": lot.code, "message": f"{lot.code} stands at {float(lot.balance):,.1f} kg."}


@room.post("/cleaning", "lots.process", response=MadeOut)
def clean(ctx: Ctx, body: CleanIn) -> Any:
    """Raw lots went over the cleaner; a clean lot came out."""
    given = [Part(one.lot_id, read_measure(one.kg, "kg", f"lots.{n}.kg")) for n, one in enumerate(body.lots)]
    out = read_measure(body.clean, "kg", "clean"), read_measure(body.screenings or "0", "kg", "screenings")
    lot = harvesting.clean(ctx, Cleaned(given, *out, body.on, body.client_uuid, body.reason))
    return {"id": lot.pk, "code": lot.code, "message": f"Clean seed is lot {lot.code}."}


@room.get("/lots/{ref:lot_id}/field-wanting", "see", response=list[str])
def field_wanting(ctx: Ctx, lot_id: Ref) -> Any:
    """What the fields behind a lot still leave open before it may be released."""
    return harvesting.field_wanting(ctx, ctx.get(Lot, lot_id))


@room.post("/lots/{ref:lot_id}/verdicts", "lots.release", response=Done)
def verdict(ctx: Ctx, lot_id: Ref, body: VerdictIn) -> Any:
    """Sign release, hold, downgrade or rejection of a lot."""
    made = harvesting.sign_verdict(ctx, lot_id, **body.dict())
    words = {"release": "is released", "hold": "is held", "downgrade": "is downgraded", "reject": "is rejected"}[
        made.decision
    ]
    return {"id": made.pk, "message": f"Lot {made.lot.code} {words}."}


@room.get("/seed-blocks/{ref:block_id}/rows.pdf", "see")
def rows_pdf(ctx: Ctx, block_id: Ref) -> HttpResponse:
    """The row plan for the planter's cab."""
    found = load_block(ctx, block_id)
    return answer_pdf(f"row-plan-{found.batch.code}", pdf("print/rows.html", rows_facts(ctx, found)))


@room.get("/seed-blocks/{ref:block_id}/drill.pdf", "see")
def drill_pdf(ctx: Ctx, block_id: Ref) -> HttpResponse:
    """What is caught before the drill goes into the field, on A5."""
    found = load_block(ctx, block_id)
    return answer_pdf(f"drill-card-{found.batch.code}", pdf("print/drill.html", drill_facts(ctx, found)))


@room.get("/seed-blocks/{ref:block_id}/rows.csv", "see")
def rows_csv(ctx: Ctx, block_id: Ref) -> HttpResponse:
    found = load_block(ctx, block_id)
    answer = HttpResponse("\ufeff" + reading.rows_csv(ctx, found), content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="rows-{found.batch.code}.csv"'
    return answer


@room.get("/seed-blocks/{ref:block_id}/rows.geojson", "see")
def rows_geojson(ctx: Ctx, block_id: Ref) -> HttpResponse:
    found = load_block(ctx, block_id)
    answer = HttpResponse(reading.rows_geojson(ctx, found), content_type="application/geo+json")
    answer["Content-Disposition"] = f'attachment; filename="rows-{found.batch.code}.geojson"'
    return answer
