"""files of a game that no layout describes"""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("projects", sa.Column("undescribed", sa.JSON(), nullable=False, server_default="[]"))


def downgrade() -> None:
    op.drop_column("projects", "undescribed")
