"""Link groups: strips, or stages of one kind, in which a change to one moves all."""

from __future__ import annotations

from dataclasses import dataclass, replace

FEWEST = 2


@dataclass(frozen=True, slots=True)
class LinkGroup:
    """members : ids, of strips or of stages of one kind

    Attributes
    ----------
    relative : bool
        The others keep their differences, else they take its value.  What is no number is taken as it is.
    parameters : tuple[str, ...]
        What is linked, one of LINKED_VALUES or `kind.name` (`tape.record_db`, `tape.on`); empty for all.
    """

    id: str
    name: str
    members: tuple[str, ...]
    of_stages: bool = False
    relative: bool = True
    parameters: tuple[str, ...] = ()

    def links(self, name: str) -> bool:
        """True where that field or parameter is linked."""
        return not self.parameters or name in self.parameters

    def joined(self, member: str) -> LinkGroup:
        return self if member in self.members else replace(self, members=(*self.members, member))

    def left(self, member: str) -> LinkGroup:
        return replace(self, members=tuple(other for other in self.members if other != member))


def kept_links(groups: tuple[LinkGroup, ...], ids: set[str]) -> tuple[LinkGroup, ...]:
    """The groups with those members alone that are still there; one that has too few is dissolved."""
    kept = [replace(group, members=tuple(member for member in group.members if member in ids)) for group in groups]
    return tuple(group for group in kept if len(group.members) >= FEWEST)
