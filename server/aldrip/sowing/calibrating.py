"""Setting a sower for a batch: trays are caught and weighed, and what to set next follows from them."""

import uuid
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

import numpy as np
from django.db.models import Q

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import Refused, refuse
from aldrip.base.words import grams, plural
from aldrip.base.words import who as name_of
from aldrip.batches.medium import filled
from aldrip.batches.models import Batch
from aldrip.batches.saved import load_batch, snapshot_of
from aldrip.batches.steps import still_open
from aldrip.sowing.models import Machine, Trial
from aldrip.sowing.scale import read_address
from aldrip_core import refusal
from aldrip_core.sower_calibration import (
    SETTLED_AFTER,
    MoreIs,
    SowerCalibration,
    SowerTrial,
    fitted_catch,
    sower_calibration,
)

LASTS_DAYS = 14  # for which a setting is taken to hold with the same seed; common practice, no source
POINTS = 33  # of a drawn curve
STRANGE_TIMES = 5.0  # more than so many times what is wanted is asked about


@dataclass(frozen=True)
class MachineSpec:
    """What is said of a machine."""

    name: str
    setting_min: float
    setting_max: float
    more_is: str = Machine.MoreIs.INCREASING
    tolerance: float = 0.05
    scale_at: str = ""
    simulated: bool = False
    note: str = ""


@act
def save_machine(ctx: Ctx, spec: MachineSpec, machine_id: Ref | None = None, *, retired: bool = False) -> Machine:
    """Add a sower, or change one. What was caught with it stays, and must lie within its range."""
    machine = (
        ctx.get(Machine, machine_id, lock=True) if machine_id is not None else Machine(organisation=ctx.organisation)
    )
    name = spec.name.strip()
    if not name:
        raise refuse("name", "missing", "How is it called at the bench?")
    if ctx.rows(Machine).filter(name=name).exclude(pk=machine.pk).exists():
        raise refuse("name", "twice", f"There is a sower “{name}” already.")
    if not spec.setting_min < spec.setting_max:
        told = f"The dial ends at {spec.setting_max:g}, not above its begin at {spec.setting_min:g}."
        raise refuse("setting_max", "out_of_range", told)
    if not 0 < spec.tolerance <= 0.5:
        raise refuse("tolerance", "out_of_range", "How near must a tray come? Above 0 and at most 50 %.")
    beyond = machine.pk and machine.trials.exclude(setting__range=(spec.setting_min, spec.setting_max)).first()
    if beyond:
        told = f"A tray was caught at {beyond.setting:g}, outside {spec.setting_min:g} to {spec.setting_max:g}."
        raise refuse("setting_max", "caught_outside", told)
    machine.name, machine.note, machine.retired = name[:80], spec.note.strip()[:300], retired
    machine.setting_min, machine.setting_max, machine.more_is = spec.setting_min, spec.setting_max, spec.more_is
    machine.tolerance, machine.scale_at, machine.simulated = spec.tolerance, read_address(spec.scale_at), spec.simulated
    machine.save()
    ctx.record(
        "sowing.machine", f"Sower {machine.name}: dial {machine.setting_min:g} to {machine.setting_max:g}.", machine
    )
    return machine


def target_of(batch: Batch) -> float | None:
    """What a tray of a batch is to catch [g], as the seed lies in its lot; None where it is not sown in trays."""
    snapshot = snapshot_of(batch)
    container = snapshot["containers"].get(snapshot["container"])
    if container is None or not batch.trays or not batch.seed_g:
        return None
    return batch.seed_g / filled(batch, container)


def trials_for(ctx: Ctx, machine: Machine, batch: Batch) -> list[Trial]:
    """What was caught with a machine for a batch, or lately with the same seed; corrected ones as they are now."""
    rows = ctx.rows(Trial).filter(machine=machine, replaced_by=None).select_related("by", "batch")
    since = ctx.at(ctx.today - timedelta(days=LASTS_DAYS))
    # Other seed is other seed: what was caught of another lot says nothing.
    near = Q(batch=batch) | Q(happened_at__gte=since) if batch.lot_id else Q(batch=batch)
    # A corrected one stands where the first of it stood.
    return list(rows.filter(near, lot=batch.lot).order_by("happened_at", "pk"))


@dataclass(frozen=True)
class Calibration:
    """Where the setting of a machine for a batch stands. `fault`: why nothing follows from the trials as they are."""

    machine: Machine
    batch: Batch
    target_g: float
    trials: list[Trial]
    found: SowerCalibration | None
    fault: str
    sentence: str
    curve: list[tuple[float, float]]

    @property
    def tolerance_g(self) -> float:
        return self.machine.tolerance * self.target_g

    @property
    def settled(self) -> bool:
        return self.found is not None and self.found.settled


def calibration(ctx: Ctx, machine: Machine, batch: Batch, target_g: float | None = None) -> Calibration:
    """What to set next, from what was caught so far. Raises Refused where a batch is not sown in trays."""
    trials = trials_for(ctx, machine, batch)
    own = [one.target_g for one in trials if one.batch_id == batch.pk]
    target = target_g or (own[-1] if own else target_of(batch))
    if target is None:
        told = f"{batch.code} is not sown in trays by weight, so no sower is set for it."
        raise refuse("batch_id", "no_trays", told)
    counted = [SowerTrial(one.setting, one.grams) for one in trials if one.even]
    low, high, way = machine.setting_min, machine.setting_max, MoreIs(machine.more_is)
    try:
        found = sower_calibration(
            trials=counted,
            target_g=target,
            tolerance_g=machine.tolerance * target,
            setting_min=low,
            setting_max=high,
            more_is=way,
        )
    except refusal.Refused as wrong:
        fault = f"{wrong.errors[0].message} Put the tray right that is wrong, or the machine."
        return Calibration(machine, batch, target, trials, None, fault, fault, [])
    drawn: list[tuple[float, float]] = []
    if counted:
        at = np.linspace(low, high, POINTS).tolist()
        caught = fitted_catch(trials=counted, settings=at, setting_min=low, setting_max=high, more_is=way)
        drawn = list(zip(at, caught, strict=True))
    return Calibration(machine, batch, target, trials, found, "", _sentence(found, counted, target, machine), drawn)


def _sentence(found: SowerCalibration, counted: list[SowerTrial], target: float, machine: Machine) -> str:
    if found.next_setting is None:
        return found.warnings[0].message
    where = f"{found.next_setting:.2f}".rstrip("0").rstrip(".")
    if found.predicted_g is None or found.low_g is None or found.high_g is None:
        return f"Nothing was caught yet: set {where}, sow one tray and weigh what it caught."
    catch = f"about {grams(found.predicted_g)} ({found.low_g:.3g} to {found.high_g:.3g})"
    if found.settled:
        return f"Settled at {where}: a tray catches {catch}."
    inside = 0
    for one in reversed(counted):
        if abs(one.grams - target) > machine.tolerance * target:
            break
        inside += 1
    more = plural(SETTLED_AFTER - inside, "tray")
    row = f" {more} more within ± {grams(machine.tolerance * target)} in a row, and it is settled." if inside else ""
    return f"Set {where} next: a tray should catch {catch}.{row}"


@act
def record_trial(
    ctx: Ctx,
    batch_id: Ref,
    machine_id: Ref,
    *,
    setting: float,
    grams: float,
    even: bool = True,
    target_g: float | None = None,
    client_uuid: uuid.UUID,
    replaces: Ref | None = None,
    reason: str = "",
) -> Trial:
    """What one tray caught at a setting. With `replaces` a catch that was written down wrongly is put right, with a reason."""
    first = ctx.rows(Trial).filter(client_uuid=client_uuid).first()
    if first is not None:
        return first
    batch = load_batch(ctx, batch_id, lock=True).batch
    still_open(batch)
    machine = ctx.get(Machine, machine_id)
    if machine.retired:
        raise refuse("machine_id", "retired", f"{machine.name} is not in use any more. Choose another sower.")
    if not machine.setting_min <= setting <= machine.setting_max:
        told = f"The dial of {machine.name} goes from {machine.setting_min:g} to {machine.setting_max:g}; {setting:g} would be forced."
        raise refuse("setting", "beyond_range", told)
    old = ctx.get(Trial, replaces) if replaces is not None else None
    if old is not None:
        _may_replace(old, batch, machine, reason)
    target = target_g or calibration(ctx, machine, batch).target_g
    if target <= 0:
        raise refuse("target_g", "nothing", "What is a tray to catch? More than nothing.")
    if not 0 <= grams <= 100_000:
        raise refuse("grams", "out_of_range", "What did the tray catch? Nothing or more, in grams.")
    ctx.doubt("catch", "grams", _strange(grams, setting, target))
    made = Trial.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        client_uuid=client_uuid,
        happened_at=old.happened_at if old else ctx.now,
        machine=machine,
        batch=batch,
        lot=old.lot if old else batch.lot,
        target_g=target,
        setting=setting,
        grams=grams,
        even=even,
        replaces=old,
        reason=reason[:300],
    )
    said = "" if even else ", not walked evenly"
    was = f" (was {old.grams:g} g at {old.setting:g}): {reason}" if old else ""
    ctx.record("sowing.trial", f"{batch.code}, {machine.name} at {setting:g}: {grams:g} g{said}{was}.", batch)
    return made


def _strange(grams: float, setting: float, target: float) -> str | None:
    """What is asked about a catch that is hardly one."""
    if grams > STRANGE_TIMES * target:
        return f"{grams:,.3g} g in one tray, where {target:,.3g} g are wanted?"
    return f"Nothing at all in the tray at {setting:g}?" if grams == 0 else None


def _may_replace(old: Trial, batch: Batch, machine: Machine, reason: str) -> None:
    if old.batch_id != batch.pk or old.machine_id != machine.pk:
        raise refuse("replaces", "elsewhere", f"That tray was caught for {old.batch.code}. Put it right there.")
    if Trial.objects.filter(replaces=old).exists():
        raise refuse("replaces", "replaced", "That was put right already. Look again.")
    if not reason.strip():
        raise refuse("reason", "missing", "Say why it was wrong.")


def set_at(ctx: Ctx, batch: Batch) -> Calibration | None:
    """How the sower stands that was last tried for a batch; None where none was, or where it follows from nothing.

    What is caught for practice never stands on a card.
    """
    real = ctx.rows(Trial).filter(batch=batch, replaced_by=None, machine__simulated=False)
    newest = real.select_related("machine").order_by("-pk").first()
    if newest is None:
        return None
    try:
        return calibration(ctx, newest.machine, batch)
    except Refused:
        return None


def on_card(ctx: Ctx, batch_id: Ref) -> dict[str, Any] | None:
    """The machine's setting, as it stands on the card of a batch."""
    one = set_at(ctx, ctx.get(Batch, batch_id))
    if one is None or one.found is None:
        return None
    return {"machine_id": one.machine.pk, "name": one.machine.name, "words": one.sentence, "settled": one.settled}


def plain(one: Calibration) -> dict[str, Any]:
    """A calibration as it is shown."""
    found = one.found
    return {
        "machine": one.machine,
        "target_g": one.target_g,
        "tolerance_g": one.tolerance_g,
        "trials": [
            {
                "id": trial.pk,
                "setting": trial.setting,
                "grams": trial.grams,
                "even": trial.even,
                "batch_code": trial.batch.code,
                "own": trial.batch_id == one.batch.pk,
                "at": trial.happened_at,
                "by": name_of(trial.by),
                "reason": trial.reason,
            }
            for trial in one.trials
        ],
        "next_setting": found.next_setting if found else None,
        "predicted_g": found.predicted_g if found else None,
        "low_g": found.low_g if found else None,
        "high_g": found.high_g if found else None,
        "settled": one.settled,
        "sentence": one.sentence,
        "fault": one.fault,
        "warnings": [warning.message for warning in found.warnings] if found else [],
        "curve": [{"setting": setting, "grams": caught} for setting, caught in one.curve],
    }
