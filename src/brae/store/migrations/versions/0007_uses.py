"""what a texture is for, where its format says so"""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("members", sa.Column("use", sa.JSON(), nullable=True))


def downgrade() -> None:
    op.drop_column("members", "use")
