"""The match sheet: an edit beside its original, property by property, and the findings. The same for every kind."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel

#: 'stops': the game would refuse or break; 'shows': it would look or sound wrong; 'note': good to know
Severity = Literal["stops", "shows", "note"]


class Remedy(BaseModel):
    """What puts a finding right."""

    id: str
    label: str
    applied: bool
    #: always applied: encoding like the original is not a choice
    automatic: bool = False


class Finding(BaseModel):
    """A difference that matters, with what the game would do."""

    id: str
    severity: Severity
    title: str
    in_game: str
    remedy: Remedy | None = None
    #: what would put it right otherwise
    others: list[Remedy] = []
    #: how sure it is, in a few words: what can be counted is certain, what was compared is likely
    sure: str = "certain"
    #: whether a person said that it is meant: then nothing has to be decided any more
    meant: bool = False

    @property
    def open(self) -> bool:
        """Whether it still stands."""
        return self.severity != "note" and not self.meant and not (self.remedy and self.remedy.applied)


class Property(BaseModel):
    """One line of the match sheet."""

    name: str
    original: str
    edit: str
    result: str
    same: bool
    #: whether a difference is worth a look; of what people change on purpose it is not
    matters: bool = True

    @classmethod
    def of(cls, name: str, original: str, edit: str, result: str, *, matters: bool = True) -> Property:
        """A line; whether it is the same is told by what the game gets."""
        same = original == result
        return cls(name=name, original=original, edit=edit, result=result, same=same, matters=matters)


class MatchSheet(BaseModel):
    """The whole comparison; a kind adds what else it measures."""

    properties: list[Property]
    findings: list[Finding]

    @property
    def open_findings(self) -> list[Finding]:
        """Findings that still stand."""
        return [finding for finding in self.findings if finding.open]
