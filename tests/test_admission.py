"""Whom a trust can admit: the rule for one caller against the arrays for all of them."""

from collections import Counter

from hypothesis import given, settings
from hypothesis import strategies as st

from enthesis.access.compiling import NONE, compile_estate
from enthesis.access.target_side.admission import Applicant, lacks
from enthesis.chains.access_graph import Web
from enthesis.model.vocabulary import BEARERS

from .conftest import examples
from .test_judging import NOW, random_estate


def test_the_arrays_admit_whom_the_rule_admits() -> None:
    admitted: Counter[str] = Counter()

    @given(st.integers(0, 2**32))
    @settings(max_examples=examples(150))
    def compare(seed: int) -> None:
        web = Web(compile_estate(random_estate(seed, journeys=0)), NOW.timestamp())
        compiled, names = web.compiled, web.compiled.places.names
        pairs = set(zip(*(column.tolist() for column in web.admitted()), strict=True))
        runs = {place for place, identities in compiled.runs_as.items() if identities}
        for number, of in enumerate(compiled.trust_of.tolist()):
            form, whom = compiled.tables.trust_form[number], str(compiled.tables.trust_whom[number])
            if of == NONE or compiled.trust_until[number] <= NOW.timestamp():
                assert not any(by == number for _, by in pairs)
                continue
            for node in range(web.nodes):
                if node >= web.places:
                    bearer = form if form in BEARERS else "token"
                    caller = Applicant(bearer, "", NONE, issuer=web.issuers[node - web.places])
                elif node in compiled.identity_kind:
                    caller = Applicant("identity", names[node], node, tuple(compiled.groups_of(node)))
                elif node in runs:
                    caller = Applicant("resource", names[node], node)
                else:
                    continue
                fits = next(lacks(compiled, number, caller, of, names[of]), None) is None
                if form == "account" and fits and (node, number) not in pairs:
                    continue  # whether its account lets it is a further question
                assert ((node, number) in pairs) == fits, (form, whom, caller)
                admitted[form] += fits

    compare()
    assert {"token", "identity", "group", "account", "attached", "person"} <= {
        form for form, count in admitted.items() if count
    }
