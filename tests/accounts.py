"""Random accounts whose grants are to be narrowed, for tests and benchmarks."""

from random import Random

from enthesis.cleaning.narrowing import Permission, Seat


def account(seed: int, most: int) -> tuple[list[Seat], dict[str, frozenset[Permission]]]:
    """Up to so many identities with what they need of up to 60 permissions, and up to 12 roles that they have now."""
    rng = Random(seed)
    permissions = [("object", f"v{number}") for number in range(rng.randint(10, 60))]
    existing = {
        f"r{number}": frozenset(rng.sample(permissions, rng.randint(2, min(20, len(permissions)))))
        for number in range(rng.randint(2, 12))
    }
    seats = []
    for number in range(rng.randint(3, most)):
        has = frozenset[Permission]().union(
            *(existing[name] for name in rng.sample(list(existing), rng.randint(1, min(3, len(existing)))))
        )
        needs = frozenset(rng.sample(sorted(has), rng.randint(1, max(1, len(has) // 3))))
        seats.append(Seat(number, f"p{number}", needs, has))
    return seats, existing
