"""how a version of an edit is encoded where it departs from its original"""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("edit_steps", sa.Column("choices", sa.JSON(), nullable=False, server_default="{}"))


def downgrade() -> None:
    op.drop_column("edit_steps", "choices")
