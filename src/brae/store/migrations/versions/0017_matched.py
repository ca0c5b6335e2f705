"""with what a project's edits were matched last"""

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("projects", sa.Column("matched", sa.String(), nullable=False, server_default=""))


def downgrade() -> None:
    op.drop_column("projects", "matched")
