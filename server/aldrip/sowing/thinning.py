"""A batch that is sown in place and thinned: as thick as it may be, or at stand, on its card."""

from collections.abc import Sequence

from aldrip.accounts.context import Ctx, Ref
from aldrip.base.quantity import read_measure
from aldrip.base.words import number, share
from aldrip.batches.saved import load_batch
from aldrip_core.sowing_chain import Link
from aldrip_core.thinning import GAPS, PULLED_AN_HOUR, SINGLED_AN_HOUR, Ways, gaps_when_thick, ways_to_a_stand

THIN = "thin"  # the kind of task by which a stage is known to be thinned
USUAL_CM = 10.0  # from plant to plant, where nobody says; invented


def ways_of(
    ctx: Ctx, batch_id: Ref, *, in_row: str = "", gaps: str = "", pulled: str = "", singled: str = ""
) -> Sequence[Link]:
    """Every figure of both ways for a batch; none where it is not thinned. As typed or as usual. Raises Refused."""
    saved = load_batch(ctx, batch_id)
    batch = saved.batch
    thinned = next((one for one in saved.method.stages if any(task.kind == THIN for task in one.tasks)), None)
    up = next((one for one in saved.method.stages if one.after == saved.method.root.key), None)
    if thinned is None or up is None or not batch.seeds:
        return ()
    lot = batch.lot
    emergence = min(1.0, saved.stages[up.key].out / batch.seeds)
    found = ways_to_a_stand(
        plants=max(1, round(saved.stages[thinned.key].out)),
        in_row_cm=read_measure(in_row, "cm", "in_row") if in_row.strip() else USUAL_CM,
        emergence=emergence,
        gaps=read_measure(gaps, "%", "gaps") / 100 if gaps.strip() else GAPS,
        tgw_g=(lot.tgw_g or lot.crop.tgw_g) if lot is not None else batch.crop.tgw_g,
        pulled_an_hour=read_measure(pulled, "", "pulled_an_hour") if pulled.strip() else PULLED_AN_HOUR,
        singled_an_hour=read_measure(singled, "", "singled_an_hour") if singled.strip() else SINGLED_AN_HOUR,
    )
    return _figures(found, emergence, float(batch.seeds))


def _figures(found: Ways, emergence: float, planned: float) -> list[Link]:
    thick, spots = found.thick, found.at_stand
    saved_seeds = thick.seeds - spots.seeds
    few = "at stand" if saved_seeds > 0 else "thick"
    saved_hours = thick.hours - spots.hours
    quick = "at stand" if saved_hours > 0 else "thick"
    seeds, hours = f"{number(abs(saved_seeds))} seeds", f"{number(abs(saved_hours), 1)} hours by hand"
    less = (
        f"{few} takes {seeds} and {hours} less" if few == quick else f"{few} takes {seeds} less, {quick} {hours} less"
    )
    left = gaps_when_thick(seeds=planned, stands=found.stands, emergence=emergence)
    told = (
        f"With {share(emergence)} coming up, {less}. "
        f"At stand {share(spots.gaps, 1)} of the stands stay empty, thick {share(thick.gaps, 1)}. "
        f"The {number(planned)} seeds of the plan leave {share(left, 1)} of them empty where they fall anywhere in the row."
    )
    rows = [
        Link("thick_metre", "Thick: seeds a metre", found.a_metre, "seeds", thick.working[1:2]),
        Link("thick_seeds", "Thick: seed", thick.seeds, "seeds", thick.working[:3]),
        Link("thick_pulled", "Thick: to be pulled", thick.pulled, "plants", thick.working[3:4]),
        Link("thick_hours", "Thick: by hand", thick.hours, "h", thick.working[3:]),
        Link("stand_each", "At stand: seeds at each", found.a_stand, "seeds", spots.working[:1]),
        Link("stand_seeds", "At stand: seed", spots.seeds, "seeds", spots.working[:2]),
        Link("stand_pulled", "At stand: to be pulled", spots.pulled, "plants", spots.working[1:3]),
        Link("stand_hours", "At stand: by hand", spots.hours, "h", spots.working[2:], told),
    ]
    for way, row in ((thick, 1), (spots, 5)):
        if way.seed_g is not None:
            old = rows[row]
            unit, value = ("kg", way.seed_g / 1000) if way.seed_g >= 1000 else ("g", way.seed_g)
            rows[row] = Link(old.key, f"{old.label}, {number(old.value)} seeds", value, unit, old.working)
    return rows
