"""Enactments with their steps, leases and documents."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None
NUMBER = sa.BigInteger().with_variant(sa.Integer, "sqlite")


def upgrade() -> None:
    """Makes the first form."""
    op.create_table(
        "enactments",
        sa.Column("number", NUMBER, primary_key=True, autoincrement=True),
        sa.Column("estate", sa.String(400), nullable=False, index=True),
        sa.Column("proposal", sa.String(80), nullable=False),
        sa.Column("state", sa.String(20), nullable=False),
        sa.Column("begun", sa.String(40), nullable=False),
        sa.Column("ended", sa.String(40)),
        sa.Column("by", sa.Text, nullable=False),
        sa.Column("because", sa.Text, nullable=False),
        sa.Column("undoes", NUMBER),
    )
    op.create_table(
        "steps",
        sa.Column("enactment", NUMBER, sa.ForeignKey("enactments.number"), primary_key=True),
        sa.Column("position", sa.Integer, primary_key=True),
        sa.Column("key", sa.String(60), nullable=False),
        sa.Column("state", sa.String(20), nullable=False),
        sa.Column("step", sa.Text, nullable=False),
        sa.Column("outcome", sa.Text, nullable=False),
        sa.Column("said", sa.Text, nullable=False),
        sa.Column("sent", sa.String(40)),
        sa.Column("ended", sa.String(40)),
    )
    op.create_table(
        "leases",
        sa.Column("place", sa.String(500), primary_key=True),
        sa.Column("fence", NUMBER, nullable=False),
        sa.Column("owner", sa.String(200), nullable=False),
        sa.Column("enactment", NUMBER),
        sa.Column("ends", sa.Float, nullable=False),
    )
    op.create_table(
        "documents",
        sa.Column("digest", sa.String(80), primary_key=True),
        sa.Column("kind", sa.String(20), nullable=False, index=True),
        sa.Column("estate", sa.String(400), nullable=False),
        sa.Column("made", sa.String(40), nullable=False),
        sa.Column("content", sa.LargeBinary, nullable=False),
    )
