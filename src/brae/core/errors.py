"""The errors of the job: what went wrong, where, and what a person can do about it."""

from __future__ import annotations

from typing import Any


class BraeError(Exception):
    """An error a person can act on.

    ``code`` is stable and machine-readable; ``address`` names the item, ``offset`` the byte in it (or the
    line of a layout), ``remedy`` says what to do next.
    """

    code = "error"
    status = 422
    #: what a command ends with
    exit_code = 1

    def __init__(
        self,
        message: str,
        *,
        address: str | None = None,
        offset: int | None = None,
        line: int | None = None,
        expected: str | None = None,
        remedy: str | None = None,
    ) -> None:
        super().__init__(message)
        self.message = message
        self.address = address
        self.offset = offset
        self.line = line
        self.expected = expected
        self.remedy = remedy

    def at(self, address: str) -> BraeError:
        """Name the item in which the error happened, where that is not known yet."""
        if self.address is None:
            self.address = address
        return self

    def as_dict(self) -> dict[str, Any]:
        """The error's parts that are known, for JSON."""
        parts = {
            "code": self.code,
            "message": self.message,
            "address": self.address,
            "offset": self.offset,
            "line": self.line,
            "expected": self.expected,
            "remedy": self.remedy,
        }
        return {key: value for key, value in parts.items() if value is not None}

    def __str__(self) -> str:
        where = [part for part in (self.address, self.line and f"line {self.line}") if part]
        if self.offset is not None:
            where.append(f"offset {self.offset} (0x{self.offset:X})")
        text = f"{': '.join([', '.join(where), self.message]) if where else self.message}"
        if self.expected:
            text += f" Expected {self.expected}."
        if self.remedy:
            text += f" {self.remedy}"
        return text


class TruncatedError(BraeError):
    """The bytes end before what was announced."""

    code = "truncated"


class FormatError(BraeError):
    """The bytes are not what their format says."""

    code = "format"


class ShortError(FormatError):
    """The beginning of a file does not say what is asked; more of its bytes would."""


class LayoutError(BraeError):
    """A layout is not valid, or asks for something that cannot be."""

    code = "layout"


class UnknownFormatError(BraeError):
    """No layout and no open format fits these bytes."""

    code = "unknown-format"


class LimitError(BraeError):
    """A size or a count is beyond what is sensible; nothing was allocated."""

    code = "limit"


class NotFoundError(BraeError):
    """There is no such item."""

    code = "not-found"
    status = 404


class ReadOnlyError(BraeError):
    """The archive has no proof, so it is not rebuilt."""

    code = "read-only"
    status = 409


class ChangedError(BraeError):
    """A file is no longer what Brae last saw; nothing is overwritten blindly."""

    code = "changed-behind"
    status = 409


class StorageError(BraeError):
    """The disk is full, a folder is read-only, or a file is in use."""

    code = "storage"
    status = 507


class RefusedError(BraeError):
    """The game would refuse what was made."""

    code = "refused"
    exit_code = 3


class CancelledError(BraeError):
    """The person cancelled the work."""

    code = "cancelled"
    status = 409


class WaitingError(BraeError):
    """What is asked for is still being worked out."""

    code = "waiting"
    status = 409


class InternalError(BraeError):
    """Brae itself failed on this item; it goes on with the others."""

    code = "internal"
    status = 500


def internal(error: Exception, address: str) -> InternalError:
    """A fault of Brae's own, met on one item."""
    return InternalError(
        f"Brae itself failed on this ({type(error).__name__}: {error}).",
        address=address,
        remedy="The file is left as it is. It may be damaged, or of a kind that Brae should know better.",
    )


def storage_error(error: OSError, doing: str, path: object) -> StorageError:
    """Put an operating system's refusal into words; ``doing`` is a phrase such as 'write'."""
    import errno

    remedies = {
        errno.ENOSPC: ("the disk is full", "Free some space and try again; nothing was changed."),
        errno.EDQUOT: ("your share of the disk is full", "Free some space and try again; nothing was changed."),
        errno.EFBIG: (
            "files on this disk, or of this program, may not be so large",
            "Use another disk (or raise the limit) and try again; nothing was changed.",
        ),
        errno.ENAMETOOLONG: ("the name is too long for this disk", "Choose a folder with a shorter path."),
        errno.EROFS: ("the folder is read-only", "Choose a folder you may write to."),
        errno.EACCES: (
            "you may not write there",
            "Choose a folder you may write to, or change its permissions.",
        ),
        errno.EPERM: ("that is not permitted", "Choose a folder you may write to."),
        errno.EBUSY: ("the file is in use", "Close the program that uses it and try again."),
    }
    reason, remedy = remedies.get(
        error.errno or 0, (error.strerror or str(error), "Try again when this is put right.")
    )
    # Windows says "access denied" and "sharing violation" where another program has the file open.
    if getattr(error, "winerror", None) in (5, 32):
        reason, remedy = remedies[errno.EBUSY]
    return StorageError(f"Could not {doing} {path}: {reason}.", remedy=remedy)
