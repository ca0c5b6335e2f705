"""items that the game has not"""

import sqlalchemy as sa
from alembic import op

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "additions",
        sa.Column("id", sa.BigInteger().with_variant(sa.Integer(), "sqlite"), primary_key=True),
        sa.Column("project_id", sa.String(80), sa.ForeignKey("projects.id", ondelete="CASCADE"), nullable=False),
        sa.Column("address", sa.String(), nullable=False),
        sa.Column("archive", sa.String(), nullable=True),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("like", sa.String(), nullable=False),
        sa.Column("sha256", sa.String(), nullable=False),
        sa.Column("gone", sa.Boolean(), nullable=False),
        sa.Column("made", sa.DateTime(timezone=True), nullable=False),
        sa.UniqueConstraint("project_id", "address"),
    )
    op.add_column("members", sa.Column("base", sa.String(), nullable=True))


def downgrade() -> None:
    op.drop_column("members", "base")
    op.drop_table("additions")
