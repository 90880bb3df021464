"""A lot's whole descent, both ways, in one query: what it was made from, and what was made of it."""

from typing import Any
from uuid import UUID

from django.db import connection

from aldrip.accounts.context import Ctx, Ref
from aldrip.base.errors import NotThere
from aldrip.lots.models import Lot
from aldrip_core.units import unit

# Up through the parents and down through the children, each lot once, with how far it lies from the one asked.
FAMILY = """
with recursive up(lot, level) as (
    select %(lot)s::bigint, 0
    union
    select p.parent_id, up.level - 1 from lots_lotparent p join up on p.child_id = up.lot where up.level > -40
), down(lot, level) as (
    select %(lot)s::bigint, 0
    union
    select p.child_id, down.level + 1 from lots_lotparent p join down on p.parent_id = down.lot where down.level < 40
), family as (
    select lot, min(level) as level from (select * from up union all select * from down) both_ways group by lot
)
select l.id, l.code, f.level, l.form, l.seed_class, l.status, l.unit, l.balance, l.received_on, c.name as crop,
       coalesce(n.name, '') as cultivar, l.supplier, l.supplier_ref, l.label_number,
       coalesce((select json_agg(json_build_object('parent', p.parent_id, 'quantity', p.quantity, 'how', p.how) order by p.id)
                 from lots_lotparent p where p.child_id = l.id), '[]') as made_from,
       coalesce((select json_agg(json_build_object('kind', m.kind, 'quantity', m.quantity, 'code', m.subject_code, 'on', m.happened_at) order by m.id)
                 from lots_movement m where m.lot_id = l.id), '[]') as movements,
       (select i.subject_code from lots_intake i where i.lot_id = l.id) as batch
from family f join lots_lot l on l.id = f.lot join methods_crop c on c.id = l.crop_id left join methods_line n on n.id = l.line_id
where l.organisation_id = %(organisation)s
order by f.level, l.id
"""


def descent(ctx: Ctx, lot_id: Ref) -> list[dict[str, Any]]:
    """Every lot of the family, ancestors first, with parents, movements and the batch it was harvested from."""
    if isinstance(lot_id, UUID):
        lot_id = ctx.get(Lot, lot_id).pk
    with connection.cursor() as cursor:
        cursor.execute(FAMILY, {"lot": lot_id, "organisation": ctx.organisation.pk})
        names = [column.name for column in cursor.description or ()]
        family = [dict(zip(names, row, strict=True)) for row in cursor.fetchall()]
    kept = {row["id"]: unit(row["unit"]).value.factor for row in family}
    for row in family:  # as people read it
        row["balance"] = row["balance"] / kept[row["id"]]
        row["movements"] = [{**m, "quantity": m["quantity"] / float(kept[row["id"]])} for m in row["movements"]]
        row["made_from"] = [
            {**p, "quantity": p["quantity"] / float(kept.get(p["parent"], 1))} for p in row["made_from"]
        ]
    if not any(row["id"] == lot_id for row in family):
        raise NotThere("There is no such lot here.")
    return family


# Through cleaning, blending and treating only: what was sown to grow a lot is not in it.
BEHIND = """
with recursive up(lot, level) as (
    select %(lot)s::bigint, 0
    union
    select p.parent_id, up.level + 1 from lots_lotparent p join up on p.child_id = up.lot
    where p.how in ('cleaned', 'blended', 'treated') and up.level < 40
)
select distinct i.subject from up join lots_intake i on i.lot_id = up.lot
where i.organisation_id = %(organisation)s and i.subject_kind = 'batch' order by i.subject
"""


def batches_behind(ctx: Ctx, lot_id: int) -> list[UUID]:
    """Batches whose loads went into a lot, by their uuid, in one query."""
    with connection.cursor() as cursor:
        cursor.execute(BEHIND, {"lot": lot_id, "organisation": ctx.organisation.pk})
        return [row[0] for row in cursor.fetchall()]
