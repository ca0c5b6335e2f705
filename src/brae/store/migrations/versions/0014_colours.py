"""the colour steps that a version was made by"""

import sqlalchemy as sa
from alembic import op

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("edit_steps", sa.Column("colours", sa.JSON(), nullable=True))


def downgrade() -> None:
    op.drop_column("edit_steps", "colours")
