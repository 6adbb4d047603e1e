"""Who may do what. Every act is allowed to the roles that need it and to no other."""

from __future__ import annotations

from enum import StrEnum


class Role(StrEnum):
    """What a person is here to do."""

    #: Decides: builds, changes, and manages people.
    ADMINISTRATOR = "administrator"
    #: Keeps things running: drives, replacements, checks.
    OPERATOR = "operator"
    #: Looks.
    VIEWER = "viewer"


class Act(StrEnum):
    """Something a person can do, as far as rights tell it apart."""

    #: See everything but users; compare.
    LOOK = "look"
    #: Save comparisons, keep the price list, record backups.
    PREPARE = "prepare"
    #: Import drives, take new ones in.
    MANAGE_DRIVES = "manage-drives"
    #: Draw up and approve the building of pools.
    BUILD_POOLS = "build-pools"
    #: Draw up and approve the replacement of a drive.
    REPLACE_DRIVES = "replace-drives"
    #: Draw up the wiping of drives; approving is an administrator's.
    WIPE_DRIVES = "wipe-drives"
    #: Approve that drives are wiped and pools taken apart.
    LET_GO = "let-go"
    #: Look after volumes: names, mounts, checks, applications.
    MANAGE_VOLUMES = "manage-volumes"
    #: Decide who reaches what: shares, block targets, people, hosts.
    GIVE_ACCESS = "give-access"
    #: Unlock and lock encrypted pools.
    KEEP_KEYS = "keep-keys"
    #: Start checks, pause jobs and choose their pace.
    RUN_JOBS = "run-jobs"
    #: Work the simulated devices and their clock.
    WORK_STAND_INS = "work-stand-ins"
    #: Add users, change their roles.
    MANAGE_USERS = "manage-users"


_ALLOWED: dict[Act, frozenset[Role]] = {
    Act.LOOK: frozenset(Role),
    Act.PREPARE: frozenset({Role.ADMINISTRATOR, Role.OPERATOR}),
    Act.MANAGE_DRIVES: frozenset({Role.ADMINISTRATOR, Role.OPERATOR}),
    Act.BUILD_POOLS: frozenset({Role.ADMINISTRATOR}),
    Act.REPLACE_DRIVES: frozenset({Role.ADMINISTRATOR, Role.OPERATOR}),
    Act.WIPE_DRIVES: frozenset({Role.ADMINISTRATOR, Role.OPERATOR}),
    Act.LET_GO: frozenset({Role.ADMINISTRATOR}),
    Act.MANAGE_VOLUMES: frozenset({Role.ADMINISTRATOR, Role.OPERATOR}),
    Act.GIVE_ACCESS: frozenset({Role.ADMINISTRATOR}),
    Act.KEEP_KEYS: frozenset({Role.ADMINISTRATOR}),
    Act.RUN_JOBS: frozenset({Role.ADMINISTRATOR, Role.OPERATOR}),
    Act.WORK_STAND_INS: frozenset({Role.ADMINISTRATOR, Role.OPERATOR}),
    Act.MANAGE_USERS: frozenset({Role.ADMINISTRATOR}),
}


def allowed(role: str, act: Act) -> bool:
    """Whether a role may do an act."""
    return Role(role) in _ALLOWED[act]


def why_not(role: str, act: Act) -> str | None:
    """Why a role may not do an act, and which may; None where it may."""
    if allowed(role, act):
        return None
    needed = " or ".join(r.value for r in reversed(Role) if r in _ALLOWED[act])
    return f"Only an {needed} can do this; you are signed in as {role}."


def acts_of(role: str) -> list[str]:
    """All acts a role may do."""
    return [act.value for act in Act if allowed(role, act)]
