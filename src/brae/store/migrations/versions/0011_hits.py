"""where files lie that were found by their signs, so that an archive need not be looked through again"""

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("archives", sa.Column("hits", sa.JSON(), nullable=True))


def downgrade() -> None:
    op.drop_column("archives", "hits")
