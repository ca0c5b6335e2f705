"""One file for each stage of the work."""

from typing import Annotated

from fastapi import Depends, Request

from brae.work import Workspace


def _workspace(request: Request) -> Workspace:
    workspace: Workspace = request.app.state.workspace
    return workspace


Work = Annotated[Workspace, Depends(_workspace)]
