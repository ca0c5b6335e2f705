"""levels of an edit made by hand, what other files of the game hold of it, and the file on disk last seen"""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("edit_steps", sa.Column("levels", sa.JSON(), nullable=False, server_default="{}"))
    op.add_column("edits", sa.Column("encoded_elsewhere", sa.JSON(), nullable=False, server_default="{}"))
    op.add_column("edits", sa.Column("seen_sha256", sa.String(), nullable=True))
    op.create_index("ix_members_name", "members", ["project_id", "name"])


def downgrade() -> None:
    op.drop_index("ix_members_name", "members")
    op.drop_column("edits", "seen_sha256")
    op.drop_column("edits", "encoded_elsewhere")
    op.drop_column("edit_steps", "levels")
