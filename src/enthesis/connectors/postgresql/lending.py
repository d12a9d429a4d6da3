"""A login that is lent to a program: in the variables that PostgreSQL's clients read, key and certificate in memory."""

from collections.abc import Mapping

from enthesis.connectors.postgresql.asking import server_of
from enthesis.connectors.postgresql.using import in_memory, role_in
from enthesis.ports import HeldCredential


def variables(url: str, certificate: HeldCredential, trusts: str) -> Mapping[str, str]:
    """The environment with which a program that this process becomes logs in at the database of a url.

    Key and certificate stand in memory that the program inherits, and end with it. `trusts` is the file with the
    certificate that the server proves itself with ('': those of the system).
    """
    server, place = server_of(url), f"/proc/self/fd/{in_memory(certificate.secret.reveal(), inherited=True)}"
    return {
        "PGHOST": str(server["host"]), "PGPORT": str(server["port"]), "PGDATABASE": str(server["dbname"]),
        "PGUSER": role_in(certificate), "PGSSLMODE": "verify-full", "PGSSLROOTCERT": trusts or "system",
        "PGSSLCERT": place, "PGSSLKEY": place, "PGGSSENCMODE": "disable",
    }  # fmt: skip
