"""The tables of the store, as SQLAlchemy Core has them. `data/store` holds how each form was made."""

from sqlalchemy import (
    BigInteger,
    Column,
    Float,
    ForeignKey,
    Integer,
    LargeBinary,
    MetaData,
    String,
    Table,
    Text,
)

metadata = MetaData()
NUMBER = BigInteger().with_variant(Integer, "sqlite")  # SQLite counts up an INTEGER key alone

enactments = Table(
    "enactments",
    metadata,
    Column("number", NUMBER, primary_key=True, autoincrement=True),
    Column("estate", String(400), nullable=False, index=True),
    Column("proposal", String(80), nullable=False),  # the digest of its document
    Column("state", String(20), nullable=False),
    Column("begun", String(40), nullable=False),  # RFC 3339, as every time here
    Column("ended", String(40)),
    Column("by", Text, nullable=False),
    Column("because", Text, nullable=False),
    Column("undoes", NUMBER),
)
steps = Table(
    "steps",
    metadata,
    Column("enactment", NUMBER, ForeignKey("enactments.number"), primary_key=True),
    Column("position", Integer, primary_key=True),
    Column("key", String(60), nullable=False),  # what tells a live system that it is the same request again
    Column("state", String(20), nullable=False),
    Column("step", Text, nullable=False),  # JSON
    Column("outcome", Text, nullable=False),  # JSON
    Column("said", Text, nullable=False),
    Column("sent", String(40)),
    Column("ended", String(40)),
)
leases = Table(
    "leases",
    metadata,
    Column("place", String(500), primary_key=True),  # a live system and the account or organisation in it
    Column("fence", NUMBER, nullable=False),  # grows with every holder
    Column("owner", String(200), nullable=False),  # '' where nobody works there
    Column("enactment", NUMBER),
    Column("ends", Float, nullable=False),  # seconds since 1970
)
documents = Table(
    "documents",
    metadata,
    Column("digest", String(80), primary_key=True),
    Column("kind", String(20), nullable=False, index=True),
    Column("estate", String(400), nullable=False),
    Column("made", String(40), nullable=False),
    Column("content", LargeBinary, nullable=False),
)
