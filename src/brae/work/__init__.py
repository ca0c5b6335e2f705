"""The stages of the work on a project, over core, store and jobs: open, edit, build, try.

Both the server and the command line are thin over this package.
"""

from brae.work.workspace import Workspace

__all__ = ["Workspace"]
