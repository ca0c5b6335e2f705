"""no index for the order of the catalogue: it is kept in memory, and cost a quarter of the listing"""

from alembic import op

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.drop_index("ix_members_catalogue", "members")


def downgrade() -> None:
    op.create_index("ix_members_catalogue", "members", ["project_id", "kind", "address"])
