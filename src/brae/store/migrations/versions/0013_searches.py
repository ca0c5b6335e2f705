"""searches that a person keeps"""

import sqlalchemy as sa
from alembic import op

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("projects", sa.Column("searches", sa.JSON(), nullable=False, server_default="[]"))


def downgrade() -> None:
    op.drop_column("projects", "searches")
