"""The narrowest choice with new roles among the existing ones: exactly, by constraint programming (CP-SAT).

The one module that needs the solver, which the extra `trim` installs.
"""

from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from itertools import pairwise

from ortools.sat.python import cp_model

from enthesis.cleaning.narrowing import Chosen, Permission, Seat, by_role, classes_of, fits

SHARE = 0.1  # of the time that is given, for finding the best again in the same way each time
MOST_COST = 2**60  # that a solver counts
FOUND = (cp_model.OPTIMAL, cp_model.FEASIBLE)
Choice = cp_model.IntVar


class _Model:
    """A program under construction: choices that are made or not, what follows from them, and aims."""

    def __init__(self) -> None:
        self.program = cp_model.CpModel()

    def choice(self) -> Choice:
        """One more choice."""
        return self.program.new_bool_var("")

    def clause(self, made: Iterable[Choice], one_of: Iterable[Choice]) -> None:
        """Where all of the first are made, one of the others is made too."""
        self.program.add_bool_or([*(~choice for choice in made), *one_of])

    def at_most(self, made: Sequence[Choice], most: int) -> None:
        """So many of these are made at the most."""
        if len(made) > most:
            self.program.add(cp_model.LinearExpr.sum(made) <= most)

    def solved(self, aims: Sequence[Mapping[Choice, int]], seconds: float) -> tuple[Callable[[Choice], bool], float]:
        """Whether a choice is made in the best solution by one aim after the other, none at the cost of an earlier one,
        and how far that may be from the best, as a share. ValueError where nothing fits, or nothing was found.

        Of several that are best it is the same one each time, unless that takes long.
        """
        best: cp_model.CpSolver | None = None
        for aim in _together(aims):
            cost = cp_model.LinearExpr.weighted_sum(list(aim), list(aim.values()))
            self.program.minimize(cost)
            solver = _solver(seconds, 2)
            state = _state(solver, self.program)
            if state not in FOUND:
                if best is None:
                    raise ValueError("no roles fit")
                return best.boolean_value, 1.0
            best, worth = solver, round(solver.objective_value)
            if state != cp_model.OPTIMAL:
                return best.boolean_value, (worth - best.best_objective_bound) / worth
            self.program.add(cost <= worth)  # what comes next makes this no worse
        self.program.clear_objective()  # type: ignore[no-untyped-call]
        again = _solver(SHARE * seconds, 1)
        if _state(again, self.program) in FOUND or best is None:
            best = again
        return best.boolean_value, 0.0


def _together(aims: Sequence[Mapping[Choice, int]]) -> list[dict[Choice, int]]:
    """Aims in one as far as numbers go: a unit of an earlier one costs more than all of a later one can."""
    out: list[dict[Choice, int]] = [{}]
    for aim in aims:
        unit = sum(aim.values()) + 1
        both = {choice: cost * unit for choice, cost in out[-1].items()}
        for choice, cost in aim.items():
            both[choice] = both.get(choice, 0) + cost
        if sum(both.values()) > MOST_COST:
            out.append(dict(aim))
        else:
            out[-1] = both
    return out


def _solver(seconds: float, workers: int) -> cp_model.CpSolver:
    """A solver for so long. Of two workers one proves that nothing is better, by what cannot go together, and one looks
    for better ones; one alone looks for the same in the same way each time."""
    solver = cp_model.CpSolver()
    solver.parameters.max_time_in_seconds = seconds
    solver.parameters.num_workers = workers
    solver.parameters.catch_sigint_signal = False  # it would be taken for the end of the time
    if workers > 1:
        solver.parameters.subsolvers.append("core_or_no_lp")
    return solver


def _state(solver: cp_model.CpSolver, program: cp_model.CpModel) -> object:
    """How the search for a solution ended. An interruption ends it at once."""
    with ThreadPoolExecutor(1) as pool:
        coming = pool.submit(solver.solve, program)
        try:
            return coming.result()
        except BaseException:
            solver.stop_search()
            raise


def with_new_roles(
    seats: Sequence[Seat], existing: Mapping[str, frozenset[Permission]], new: int, seconds: float
) -> Chosen:
    """The best roles for these seats: existing ones, and at most so many new ones. ValueError where none fit."""
    return _without_beyond(seats, existing, new, seconds) or _Program(seats, existing, new).chosen(seconds)


class _Program:
    """The choice as a program: which permissions each new role holds, and which roles stand at which class of seats.

    New roles are alike, so of the solutions that differ in their order alone one is enough.
    """

    def __init__(self, seats: Sequence[Seat], existing: Mapping[str, frozenset[Permission]], new: int) -> None:
        self.seats = seats
        self.existing = existing
        self.classes = classes_of(seats)
        self.columns = _alike(seats, existing.values())
        self.model = model = _Model()
        fitting = [name for name in existing if any(fits(existing[name], seat) for seat in self.classes)]
        self.used = {name: model.choice() for name in fitting}
        self.holds = [[model.choice() for _ in self.columns] for _ in range(min(new, len(self.classes)))]
        self.beyond: dict[Choice, int] = {}
        self.grants: dict[Choice, int] = {}
        self.stands: list[tuple[dict[str, Choice], list[Choice]]] = []
        for seat, members in self.classes.items():
            self._seat(seat, len(members))
        self.made = self._in_order()
        self._no_more_than_needed()

    def _seat(self, seat: Seat, many: int) -> None:
        """The roles that may stand at a class of seats, and what each group of permissions asks of them."""
        model = self.model
        by_name = {name: model.choice() for name in self.used if fits(self.existing[name], seat)}
        by_new = [model.choice() for _ in self.holds]
        self.stands.append((by_name, by_new))
        for name, at in by_name.items():
            model.clause([at], [self.used[name]])
        self.grants |= dict.fromkeys((*by_name.values(), *by_new), many)
        for column, permissions in enumerate(self.columns):
            having = [at for name, at in by_name.items() if permissions <= self.existing[name]]
            new = [(at, role[column]) for at, role in zip(by_new, self.holds, strict=True)]
            if permissions <= seat.needs:
                giving = [(model.choice(), at, holds) for at, holds in new]
                for both, at, holds in giving:
                    model.clause([both], [at])
                    model.clause([both], [holds])
                model.clause([], [*having, *(both for both, _, _ in giving)])
            elif permissions <= seat.allowed:
                cost = many * sum(seat.beyond.get(one, 1) for one in permissions)
                if cost:
                    extra = model.choice()
                    self.beyond[extra] = cost
                    for made in (*((at,) for at in having), *new):
                        model.clause(made, [extra])
            else:
                for made in new:
                    model.clause(made, ())

    def _in_order(self) -> list[Choice]:
        """Whether each new role stands anywhere. None stands first at an earlier class than the one before it, and
        where two stand at the same classes up to some class, the earlier one stands there if the later one does."""
        model = self.model
        so_far: list[Choice] = []  # whether each role stands at a class up to here
        same: list[list[Choice]] = [[] for _ in self.holds[1:]]  # whether it is as the next one is up to here
        for _, by_new in self.stands:
            before, so_far = so_far, [model.choice() for _ in by_new]
            for number, (here, at) in enumerate(zip(so_far, by_new, strict=True)):
                ways = [at, *before[number : number + 1]]
                model.clause([here], ways)
                for way in ways:
                    model.clause([way], [here])
            for number, (one, other) in enumerate(pairwise(by_new)):
                model.clause([so_far[number + 1]], [so_far[number]])
                model.clause([*same[number], other], [one])
                still = model.choice()
                model.clause([*same[number], one, other], [still])
                model.clause(same[number], [one, other, still])
                same[number] = [still]
        return so_far

    def _no_more_than_needed(self) -> None:
        """A new role holds nothing that is needed nowhere where it stands."""
        for number, role in enumerate(self.holds):
            for permissions, holds in zip(self.columns, role, strict=True):
                stands = zip(self.classes, self.stands, strict=True)
                self.model.clause([holds], [at[number] for seat, (_, at) in stands if permissions <= seat.needs])

    def chosen(self, seconds: float) -> Chosen:
        """The best solution as roles and seats, or as it is where none is found in time; ValueError where there is
        none."""
        fresh = dict.fromkeys(self.made, 1)
        roles = dict.fromkeys(self.used.values(), 1) | fresh
        try:
            made, gap = self.model.solved((self.beyond, roles, fresh, self.grants), seconds)
        except ValueError:
            return self._as_it_is()
        contents = [
            frozenset(one for its, holds in zip(self.columns, role, strict=True) if made(holds) for one in its)
            for role in self.holds
        ]
        every = [*((name, self.existing[name]) for name in self.used), *(("", its) for its in contents)]
        order = {name: number for number, name in enumerate(self.used)}
        at = [
            [*(order[name] for name, its in by_name.items() if made(its)),
             *(number for number, its in enumerate(by_new, len(order)) if made(its) and every[number][1])]
            for by_name, by_new in self.stands
        ]  # fmt: skip
        return by_role(self.seats, list(self.classes.items()), every, at, gap)

    def _as_it_is(self) -> Chosen:
        """Every role that exists wherever it may stand; ValueError where that is not enough."""
        names = list(self.used)
        at = [[names.index(name) for name in by_name] for by_name, _ in self.stands]
        for seat, its in zip(self.classes, at, strict=True):
            if not seat.needs <= frozenset(one for number in its for one in self.existing[names[number]]):
                raise ValueError("no roles fit")
        every = [(name, self.existing[name]) for name in names]
        return by_role(self.seats, list(self.classes.items()), every, at, 1.0)


MOST_CANDIDATES = 4_000  # roles that are looked at where nothing beyond need is given


def _without_beyond(
    seats: Sequence[Seat], existing: Mapping[str, frozenset[Permission]], new: int, seconds: float
) -> Chosen | None:
    """The best choice that gives nothing beyond need, with the fewest roles and then grants; None where there is none.

    A role that stands at some seats gives no more than what all of them may have for nothing: so the roles to choose
    from are the intersections of that, and the choice is a cover, which is solved far faster than the whole program.
    """
    classes = list(classes_of(seats).items())
    free = [seat.needs | {one for one in seat.allowed if not seat.beyond.get(one, 1)} for seat, _ in classes]
    candidates = _intersections(free)
    if candidates is None:
        return None
    model = _Model()
    roles = [*existing.items(), *(("", its) for its in candidates)]
    made = [model.choice() for _ in roles]
    fresh = [choice for choice, (name, _) in zip(made, roles, strict=True) if not name]
    model.at_most(fresh, new)
    grants: dict[Choice, int] = {}
    stands: list[list[tuple[int, Choice]]] = []
    for (seat, members), may in zip(classes, free, strict=True):
        here = [(number, model.choice()) for number, (_, its) in enumerate(roles) if its <= may and its & seat.needs]
        stands.append(here)
        for number, at in here:
            model.clause([at], [made[number]])
            grants[at] = len(members)
        for need in seat.needs:
            model.clause([], [at for number, at in here if need in roles[number][1]])
    try:
        chosen, gap = model.solved((dict.fromkeys(made, 1), dict.fromkeys(fresh, 1), grants), seconds)
    except ValueError:
        return None
    picked = [[number for number, choice in here if chosen(choice)] for here in stands]
    return None if gap else by_role(seats, classes, roles, picked, gap)


def _intersections(sets: Sequence[frozenset[Permission]]) -> list[frozenset[Permission]] | None:
    """Every intersection of some of these that is not empty; None where there are too many."""
    found: set[frozenset[Permission]] = set()
    for one in sets:
        found |= {one, *(one & other for other in found)}
        if len(found) > MOST_CANDIDATES:
            return None
    return sorted((one for one in found if one), key=sorted)


def _alike(seats: Sequence[Seat], roles: Iterable[frozenset[Permission]]) -> list[frozenset[Permission]]:
    """The permissions, those together that no seat and no role tells apart."""
    listed = list(roles)
    by_signature: dict[tuple[object, ...], set[Permission]] = {}
    for one in sorted({one for seat in seats for one in seat.allowed}):
        of_seats = tuple(
            (one in seat.needs, one in seat.allowed, 0 if one in seat.needs else seat.beyond.get(one, 1))
            for seat in seats
        )
        by_signature.setdefault((of_seats, tuple(one in role for role in listed)), set()).add(one)
    return [frozenset(its) for its in by_signature.values()]
