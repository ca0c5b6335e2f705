"""Writes the OpenAPI document and the JSON Schemas of layouts and game profiles, or checks that they are current.

``python -m brae.api.document [--check] OPENAPI LAYOUTS GAMES``
"""

import json
import sys
import tempfile
from pathlib import Path
from typing import Any

from brae.api.app import create_app
from brae.core.games.model import GameProfile
from brae.core.layouts.model import Layout
from brae.store import Home
from brae.work import Workspace


def documents() -> list[dict[str, Any]]:
    """The documents, in the order of the arguments."""
    with tempfile.TemporaryDirectory() as folder:
        workspace = Workspace(Home(Path(folder)))
        try:
            openapi = create_app(workspace, watch=False).openapi()
        finally:
            workspace.close()
    schemas = [model.model_json_schema(by_alias=True) for model in (Layout, GameProfile)]
    return [openapi, *({"$schema": "https://json-schema.org/draft/2020-12/schema", **schema} for schema in schemas)]


def main() -> None:
    """Write or check."""
    arguments = [argument for argument in sys.argv[1:] if argument != "--check"]
    stale = []
    for path, document in zip(map(Path, arguments), documents(), strict=True):
        text = json.dumps(document, indent=1, sort_keys=True) + "\n"
        if "--check" not in sys.argv:
            path.write_text(text, encoding="utf-8")
        elif not path.exists() or path.read_text(encoding="utf-8") != text:
            stale.append(str(path))
    if stale:
        sys.exit(f"stale: {', '.join(stale)}; run 'make openapi'")


if __name__ == "__main__":
    main()
