"""Who may do what, in one table. Every route names one of these actions."""

from aldrip.accounts.models import Role

EVERYBODY = frozenset(Role)
MANAGER = frozenset({Role.MANAGER})
PLANNERS = frozenset({Role.MANAGER, Role.SUPERVISOR})
GROWERS = frozenset({Role.MANAGER, Role.SUPERVISOR, Role.INSPECTOR})

ALLOWED: dict[str, frozenset[Role]] = {
    "see": EVERYBODY,
    "acts.take_back": EVERYBODY - {Role.VIEWER},  # one's own; anybody's as manager or supervisor
    "accounts.manage": MANAGER,
    "accounts.audit": PLANNERS,
    "clock.advance": MANAGER,
    "methods.edit": MANAGER,
    "places.edit": MANAGER,
    "orders.edit": MANAGER | {Role.DISPATCH},
    "lots.receive": PLANNERS | {Role.LABORATORY, Role.DISPATCH},
    "lots.test": frozenset({Role.MANAGER, Role.LABORATORY}),
    "batches.plan": PLANNERS,
    "proposals": PLANNERS | {Role.DISPATCH},  # each of its commands asks for its own right
    "batches.do": PLANNERS,
    "diary.do": PLANNERS | {Role.DISPATCH, Role.INSPECTOR},
    "clocks.run": PLANNERS | {Role.LABORATORY, Role.DISPATCH, Role.INSPECTOR},
    "diary.count": GROWERS,
    "lots.process": PLANNERS,
    "lots.hold": GROWERS | {Role.LABORATORY, Role.DISPATCH},  # whoever sees it stops it
    "lots.pack": GROWERS | {Role.DISPATCH},
    "lots.release": frozenset({Role.MANAGER, Role.LABORATORY}),
    "mothers.plan": PLANNERS,
    "mothers.cut": GROWERS,
    "tubers.store": PLANNERS,
    "tubers.look": GROWERS,
    "traps.count": GROWERS,
    "mothers.index": GROWERS | {Role.LABORATORY},  # whoever sees it stops it
    "seedcrops.plan": PLANNERS,
    "seedcrops.do": PLANNERS,
    "seedcrops.count": GROWERS,
    "seedcrops.sign": frozenset({Role.MANAGER, Role.INSPECTOR}),
    "deliveries.dispatch": frozenset({Role.MANAGER, Role.DISPATCH}),
}


def may(role: str, action: str) -> bool:
    """Whether a role allows an action; an unknown action is a programming fault."""
    return Role(role) in ALLOWED[action]
