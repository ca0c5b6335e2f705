"""archives inside archives"""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    # SQLite adds a column with a foreign key only by copying the table.
    with op.batch_alter_table("archives") as table:
        table.add_column(sa.Column("parent_id", sa.Integer(), nullable=True))
        table.create_foreign_key("fk_archives_parent", "archives", ["parent_id"], ["id"], ondelete="CASCADE")
        table.create_index("ix_archives_parent_id", ["parent_id"])


def downgrade() -> None:
    with op.batch_alter_table("archives") as table:
        table.drop_index("ix_archives_parent_id")
        table.drop_constraint("fk_archives_parent", type_="foreignkey")
        table.drop_column("parent_id")
