"""revisions of edits, what an archive was listed from, the parts of streamed textures"""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("edits", sa.Column("revision", sa.Integer(), nullable=False, server_default="1"))
    op.add_column("archives", sa.Column("listed_from", sa.String(), nullable=False, server_default=""))
    op.add_column("members", sa.Column("parts", sa.JSON(), nullable=False, server_default="[]"))


def downgrade() -> None:
    op.drop_column("members", "parts")
    op.drop_column("archives", "listed_from")
    op.drop_column("edits", "revision")
