"""Move what the first release kept into the shape of today: subjects by uuid, stages by key, weights in grams.

It stands in the topmost room because it reads every other one. The old columns go in the migrations after it.
"""

from django.db import migrations, models

from aldrip.accounts.migrations import _known

SUBJECTS = (
    ("accounts_auditevent", ("organisation", "member", "place", "site", "batch", "lot", "orderline", "order", "delivery", "seedblock", "task")),
    ("diary_task", ("batch", "lot")),
    ("diary_count", ("batch",)),
    ("lots_movement", ("batch", "lot", "delivery")),
    ("lots_intake", ("batch",)),
)
TABLES = {
    "organisation": "accounts_organisation", "member": "accounts_member", "place": "places_place", "site": "places_site",
    "batch": "batches_batch", "lot": "lots_lot", "orderline": "orders_orderline", "order": "orders_order", "delivery": "deliveries_delivery",
    "seedblock": "seedcrops_seedblock", "task": "diary_task",
}
GRAMS = [
    # Own seed was kept in kilos; what was bought in grams already.
    "update lots_movement m set quantity = m.quantity * 1000 from lots_lot l where l.id = m.lot_id and l.unit = 'kg'",
    "update lots_lotparent p set quantity = p.quantity * 1000 from lots_lot l where l.id = p.parent_id and l.unit = 'kg'",
    "update batches_yield y set quantity = y.quantity * 1000 from lots_lot l where l.id = y.lot_id and l.unit = 'kg'",
    "update batches_batchinput i set quantity = i.quantity * 1000 from lots_lot l where l.id = i.lot_id and l.unit = 'kg'",
    "update lots_lot set balance = balance * 1000, packet_size = packet_size * 1000 where unit = 'kg'",
    "update deliveries_deliveryitem d set quantity = d.quantity * 1000 from orders_orderline o where o.id = d.order_line_id and o.unit = 'kg'",
    "update batches_allocation a set quantity = a.quantity * 1000 from orders_orderline o where o.id = a.order_line_id and o.unit = 'kg'",
    "update orders_orderline set quantity = quantity * 1000, delivered = delivered * 1000, forecast = forecast * 1000 where unit = 'kg'",
    "update batches_batch set needed = needed * 1000, expected = expected * 1000, low = low * 1000, high = high * 1000 "
    "where method_snapshot ->> 'unit' = 'kg'",
]
KEYS = [
    "update batches_batchstage set key = kind",
    "update batches_batchstage s set counted_of = c.sampled from (select distinct on (subject, stage_order) subject, stage_order, sampled "
    "from diary_count where kind = 'emergence' order by subject, stage_order, id desc) c join batches_batch b on b.uuid = c.subject "
    "where s.batch_id = b.id and s.\"order\" = c.stage_order and s.counted_share is not null",
    "update diary_task t set stage = s.key, at = 'start' from batches_batch b join batches_batchstage s on s.batch_id = b.id "
    "where t.subject = b.uuid and s.\"order\" = t.stage_order",
    "update diary_count c set stage = s.key from batches_batch b join batches_batchstage s on s.batch_id = b.id "
    "where c.subject = b.uuid and s.\"order\" = c.stage_order",
    "update diary_task set key = replace(kind, 'inspect-', 'inspect:'), kind = 'inspect' where kind like 'inspect-%'",
    "update diary_task t set key = 'remedy:' || r.slug, kind = 'remedy' from methods_remedy r where t.kind = 'remedy-' || r.id",
    "update diary_task set key = kind where kind in ('hives', 'dry', 'rogue') and subject is not null and key = ''",
    "update diary_task set key = kind where stage <> '' and key = ''",
    # Of one key the newest stays by that key; the others keep what was noted and are known by their number.
    "update diary_task t set key = t.key || '#' || t.id from (select id, row_number() over (partition by subject, stage, key order by "
    "id desc) n from diary_task where key <> '') d where d.id = t.id and d.n > 1",
]
MOMENTS = (("count", "end"), ("deliver", "end"), ("water", "before"))


def subjects(apps, schema_editor):
    with schema_editor.connection.cursor() as cursor:
        for table, kinds in SUBJECTS:
            for kind in kinds:
                cursor.execute(
                    f"update {table} e set subject = s.uuid from {TABLES[kind]} s where e.subject_kind = %s and e.subject_id = s.id", [kind]
                )
        cursor.execute("delete from diary_count where subject is null")
        cursor.execute("delete from lots_intake where subject is null")
        for statement in KEYS:
            cursor.execute(statement)
        for kind, at in MOMENTS:
            cursor.execute("update diary_task set at = %s where kind = %s and stage <> ''", [at, kind])
        for statement in GRAMS:
            cursor.execute(statement)


def problems(apps, schema_editor):
    Line = apps.get_model("orders", "OrderLine")
    for line in Line.objects.exclude(problem=""):
        line.problems = [{"code": "refused", "words": line.problem}]
        line.save(update_fields=["problems"])


def inputs(apps, schema_editor):
    """What was sown was taken on the day of sowing; what is planned becomes a planned input."""
    Batch, Stage = apps.get_model("batches", "Batch"), apps.get_model("batches", "BatchStage")
    Input = apps.get_model("batches", "BatchInput")
    for row in Input.objects.filter(taken_on=None).select_related("stage"):
        row.taken_on = row.stage.actual_start or row.stage.planned.lower
        row.save(update_fields=["taken_on"])
    first = {}
    for stage in Stage.objects.filter(batch__state="planned", order=0):
        first[stage.batch_id] = stage
    made = [
        Input(stage=first[b.pk], lot_id=b.lot_id, quantity=round(b.seed_g, 4), part="seed")
        for b in Batch.objects.filter(state="planned", lot__isnull=False, seed_g__gt=0)
        if b.pk in first and b.method_snapshot.get("by_seed")
    ]
    Input.objects.bulk_create(made)


def snapshots(apps, schema_editor):
    """Every batch keeps a complete snapshot: container, mix and crop as they are now, for they were read live until today."""
    from aldrip.methods.snapshot import upgraded

    Batch = apps.get_model("batches", "Batch")
    for batch in Batch.objects.select_related("crop", "container", "mix"):
        batch.method_snapshot = upgraded(batch.method_snapshot, crop=batch.crop, container=batch.container, mix=batch.mix)
        batch.save(update_fields=["method_snapshot"])


def audit(apps, schema_editor):
    """What an edit was before can be taken back by stage key, place uuid and lot uuid."""
    Audit = apps.get_model("accounts", "AuditEvent")
    places = dict(apps.get_model("places", "Place").objects.values_list("pk", "uuid"))
    lots = dict(apps.get_model("lots", "Lot").objects.values_list("pk", "uuid"))
    batches = {b.uuid: b for b in apps.get_model("batches", "Batch").objects.all()}
    by_pk = {b.pk: b for b in batches.values()}
    containers = {c.pk: c for c in apps.get_model("methods", "Container").objects.all()}
    for event in Audit.objects.filter(action__in=("batch.keep", "batch.undo", "batch.resow")):
        changed = False
        for name in ("before", "after"):
            state = getattr(event, name)
            if isinstance(state, dict) and isinstance(state.get("dates"), list):
                batch = batches.get(event.subject)
                setattr(event, name, _state(state, batch, places, lots, containers))
                changed = True
            elif isinstance(state, dict) and isinstance(state.get("tops_up"), int) and state["tops_up"] in by_pk:
                setattr(event, name, {**state, "tops_up": str(by_pk[state["tops_up"]].uuid)})
                changed = True
        if changed:
            event.save(update_fields=["before", "after"])


def _state(state, batch, places, lots, containers):
    from aldrip.methods.snapshot import container_values

    stages = [s["key"] for s in batch.method_snapshot["stages"]] if batch else []
    factor = 1000 if batch and batch.method_snapshot["unit"] == "kg" else 1
    container = containers.get(state.get("container"))
    lot = lots.get(state.get("lot"))
    return {
        **{k: state[k] for k in ("version", "start", "start_typed", "chance")},
        "needed": str(state["needed"] * factor), "container": container_values(container) if container else None,
        "lots": [], "lot": str(lot) if lot else None,
        "rates": {stages[int(n)]: [a, b, origin, source.removeprefix("typed: ")] for n, (a, b, origin, source) in state["rates"].items() if int(n) < len(stages)},
        "places": {stages[int(n)]: [[str(places[p]), 1.0]] if p in places else [] for n, p in state["places"].items() if int(n) < len(stages)},
        "dates": dict(zip(stages, state["dates"])),
    }


def typed(apps, schema_editor):
    """The reason of a typed rate no longer carries a prefix that means something."""
    Stage = apps.get_model("batches", "BatchStage")
    for stage in Stage.objects.filter(origin="entered", source__startswith="typed: "):
        stage.source = stage.source.removeprefix("typed: ")
        stage.save(update_fields=["source"])


class Migration(migrations.Migration):
    dependencies = [
        ("deliveries", "0001_initial"),
        ("accounts", "0004_known"),
        ("methods", "0003_editions"),
        ("places", "0003_known"),
        ("diary", "0002_known"),
        ("lots", "0003_known"),
        ("orders", "0003_exact"),
        ("batches", "0003_tree"),
        ("seedcrops", "0003_known"),
    ]
    operations = [
        migrations.AddField("delivery", "uuid", _known()),
        migrations.AddField("document", "uuid", _known()),
        migrations.AlterField("deliveryitem", "quantity", models.DecimalField(decimal_places=4, max_digits=16)),
        *(migrations.RunPython(step, migrations.RunPython.noop) for step in (subjects, problems, inputs, snapshots, audit, typed)),
    ]
