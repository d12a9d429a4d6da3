"""Names and paths of a cluster as parts of an address, both reversible.

A path of the interface itself, `/healthz/etcd`, is `api-path/healthz/etcd=`: the sign at its end keeps it apart from
what begins with it, so that a rule for `/healthz/*` is for the place `api-path/healthz` and not for `/healthz`.
"""

from enthesis.model.foreign_names import word_of

PATH = "api-path"
END = "="


def path_places(url: str) -> list[str]:
    """Where a rule for a path of the interface gives something, behind the address of the cluster; the whole cluster
    for every path."""
    if url in ("*", "/*"):
        return [""]
    if url.endswith("/*"):
        return [_place(url[:-2])]
    if url.endswith("*"):
        return [exact_place(url[:-1]), _place(url[:-1])]
    return [exact_place(url)]


def exact_place(path: str) -> str:
    """The place of a path itself, behind the address of the cluster."""
    above, _, last = path.removeprefix("/").rpartition("/")
    return f"{_place(above) if above else f'/{PATH}'}/{word_of(last) if last else ''}{END}"


def inexact(url: str) -> bool:
    """Whether a rule is for paths that no place holds alone: those that begin with a part of a word."""
    return url.endswith("*") and url not in ("*", "/*") and not url.endswith("/*")


def _place(path: str) -> str:
    return "/".join(["", PATH, *map(word_of, path.removeprefix("/").split("/"))])
