"""what the game holds of each edit after a build"""

import sqlalchemy as sa
from alembic import op

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("builds", sa.Column("held", sa.JSON(), nullable=False, server_default="{}"))


def downgrade() -> None:
    op.drop_column("builds", "held")
