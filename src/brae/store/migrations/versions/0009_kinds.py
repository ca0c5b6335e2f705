"""facts of any kind in the place of columns for textures; the kind of an edit, the files beside it"""

from typing import Any

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None

_GONE: dict[str, Any] = {
    "width": sa.Integer(), "height": sa.Integer(), "format": sa.String(), "levels": sa.Integer(),
    "orientation": sa.String(), "use": sa.JSON(),
}  # fmt: skip


def upgrade() -> None:
    op.add_column("members", sa.Column("facts", sa.JSON(), nullable=False, server_default="{}"))
    op.execute(
        "UPDATE members SET facts = json_object('dimensions', width || ' × ' || height, 'width', width, "
        "'height', height, 'pixels', width * height, 'format', format, 'mips', levels, 'rows', orientation) "
        "WHERE kind = 'texture' AND width IS NOT NULL"
    )
    op.execute("UPDATE members SET kind = 'part' WHERE kind = 'levels'")
    for name in _GONE:
        op.drop_column("members", name)
    # The next opening tells every member anew, so that what other kinds say is there too.
    op.execute("UPDATE archives SET listed_from = ''")
    op.add_column("archives", sa.Column("evidence", sa.JSON(), nullable=False, server_default="[]"))
    op.add_column("projects", sa.Column("listing", sa.Integer(), nullable=False, server_default="1"))
    op.add_column("edits", sa.Column("kind", sa.String(), nullable=False, server_default="texture"))
    op.alter_column("edit_steps", "levels", new_column_name="beside")


def downgrade() -> None:
    op.alter_column("edit_steps", "beside", new_column_name="levels")
    op.drop_column("edits", "kind")
    op.drop_column("projects", "listing")
    op.drop_column("archives", "evidence")
    for name, kind in _GONE.items():
        op.add_column("members", sa.Column(name, kind))
    op.execute(
        "UPDATE members SET width = json_extract(facts, '$.width'), height = json_extract(facts, '$.height'), "
        "format = json_extract(facts, '$.format'), levels = json_extract(facts, '$.mips'), "
        "orientation = json_extract(facts, '$.rows')"
    )
    op.execute("UPDATE members SET kind = 'levels' WHERE kind = 'part'")
    op.drop_column("members", "facts")
