"""Decisions on members: who may join, be added, change role, leave, be removed."""

from __future__ import annotations

from nestrel.core.problems import Forbidden, NotFound
from nestrel.core.rights import RIGHTS, Action, Relation
from nestrel.core.roles import Role, Visibility, default_role


def role_on_joining(standing: Relation, wanted: Role | None) -> Role:
    """The role that the caller gets by joining an open conversation on their own.

    Raises:
        Forbidden: it is not open, or a role above the default one is asked for.
    """
    default = default_role(standing.kind)
    if standing.service:
        return wanted or default
    if standing.visibility is not Visibility.OPEN:
        raise Forbidden(RIGHTS[Action.JOIN].refusal)
    if wanted not in (None, default, Role.READER):
        raise Forbidden(f"who joins is a {default}; an owner can give you another role")
    return wanted or default


def role_on_adding(standing: Relation, present: Role | None, wanted: Role | None, owners: int) -> Role:
    """The role that another user has after the caller adds them, or changes the role they have.

    Raises:
        Forbidden: the caller's role does not allow it, or the last owner would be lost.
    """
    role = wanted or present or default_role(standing.kind)
    if role is present:
        return role
    if not standing.may_set_role(present, role):
        raise Forbidden(f"your role does not let you make someone {role}")
    if present is Role.OWNER and owners == 1:
        raise Forbidden("the last owner keeps the role; make someone else an owner first")
    return role


def check_leaving(standing: Relation, present: Role | None, owners: int, members: int, *, own: bool) -> None:
    """Whether the caller may leave (`own`) or remove the member whose role is `present`.

    Raises:
        NotFound: there is no such member.
        Forbidden: the role does not allow it, or the last owner would be lost to the others.
    """
    if present is None:
        raise NotFound("there is no such member")
    if not own and not standing.may_set_role(present, None):
        raise Forbidden(f"your role does not let you remove a member who is {present}")
    if present is Role.OWNER and owners == 1 and members > 1:
        raise Forbidden("the last owner cannot leave the others; make someone else an owner first, or close it")
