"""What the API returns as it is."""

from __future__ import annotations

from pydantic import ConfigDict

#: for a dataclass whose lists may be empty: they are in every answer, and the page need not ask whether
ALWAYS_SENT = ConfigDict(json_schema_serialization_defaults_required=True)
