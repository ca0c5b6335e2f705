"""game profiles: a project's game, edition and way back; files that Brae made; copies that do not win"""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for name in ("game", "edition", "chosen_edition", "way"):
        op.add_column("projects", sa.Column(name, sa.String(), nullable=True))
    op.add_column("projects", sa.Column("game_faults", sa.JSON(), nullable=False, server_default="[]"))
    op.add_column("originals", sa.Column("made_folders", sa.JSON(), nullable=False, server_default="[]"))
    op.add_column("members", sa.Column("winner", sa.String(), nullable=True))


def downgrade() -> None:
    op.drop_column("members", "winner")
    op.drop_column("originals", "made_folders")
    for name in ("game_faults", "way", "chosen_edition", "edition", "game"):
        op.drop_column("projects", name)
