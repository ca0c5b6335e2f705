"""findings that a person says are meant"""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("projects", sa.Column("meant", sa.JSON(), nullable=False, server_default="[]"))


def downgrade() -> None:
    op.drop_column("projects", "meant")
