"""The risks that an estate can hold, and the findings of a sweep, by their stable codes."""

RISKS = {
    "strangers-admitted": "a trust on an issuer that others use too admits subjects that are not ours",
    "owned-unsaid": "an issuer is shared, and the estate does not say which of its subjects are ours",
    "any-audience": "a trust admits tokens that were issued for another audience",
    "name-cut-short": "a pattern ends inside a name, so that longer names match too",
    "only-barred": "a trust says only who is not admitted",
    "fork-admitted": "runs that an outsider's change can start are admitted to an identity that can write",
    "whole-account": "a trust admits a whole account where one identity is meant",
    "no-reference": "another party is admitted without an agreed reference",
    "never-holds": "conditions that nothing can ever meet",
    "claim-never-issued": "a condition on a claim that its issuer never issues",
    "long-session": "sessions last longer than any journey needs",
    "trust-in-trust": "a trust admits no caller that another trust of the same identity does not",
    "origin-forgotten": "a caller of another party becomes one of ours and so passes a ceiling meant for it",
    "endless-key": "a keyed credential has no end, or a later one than keys may have",
    "everything-allowed": "a role that allows everything is bound at an account or above",
    "power-unexplained": "a role that can change access is bound at an account or above without an end or a reason",
    "temporary-endless": "access that is called temporary has no end",
    "not-ours": "a statement that Enthesis did not make opens what is ours on the live side",
    "drift": "a statement on the live side is not as the estate describes it",
    "tied-elsewhere": "an identity is tied to a resource of another account, so it does not stand there",
    "ceiling-misses-people": "a ceiling over the callers of accounts does not bar a person who holds the same directly",
    "acceptance-idle": "a risk is accepted that is not there",
}
"""Stable codes, each with what it means."""
LIVE_RISKS = ("not-ours", "drift")  # found on the live side alone

FINDINGS = {
    "endless-key": RISKS["endless-key"],
    "key-old": "a keyed credential was made long ago and still works",
    "key-unused": "a keyed credential works, and has not been used for long or ever",
    "key-copied": "a keyed credential is held in several places",
    "key-two-ends": "one value of a keyed credential is listed under different ends",
    "key-needless": "a keyed credential works although its identity has a keyless way",
    "key-on-machine": "a person's keyed credential is held on a machine",
    "identity-idle": "an identity that nothing can run as, take on or sign in as",
    "identity-unused": "an identity did nothing for as long as the log of use tells",
    "identity-unowned": "an identity without an owner or a purpose",
    "identity-disabled-bound": "a disabled identity still has grants, trusts or attachments",
    "identity-tied-to-nothing": "an identity is tied to a resource that no longer exists",
    "own-access": "a workload can change its own access",
    "everything-allowed": RISKS["everything-allowed"],
    "wider-than-used": "a role of everything is bound at an account or above, and all recorded use is in one place",
    "class-unused": "every verb of a class is given at an account or above, and none of them was used",
    "power-unexplained": RISKS["power-unexplained"],
    "temporary-endless": RISKS["temporary-endless"],
    "grant-ended": "a grant, trust or exception has ended and is still written down",
    "grant-without-effect": "a grant that can never take effect",
    "acceptance-ended": "a risk or finding was accepted until a time that has passed",
    "shared-login": "a login that people share is on",
    "stored-token": "a cluster stores a token that has no end",
    "open-pipeline-access": "every run of a pipeline service may use a stored credential",
    "for-anybody": "a cluster allows something to every caller, unauthenticated ones included",
    "dangling": "a statement on the live side names something that no longer exists",
}
"""What `sweep` finds, each with what it means. Codes that a risk has too mean the same."""
FOUND_BY_SWEEP = tuple(code for code in FINDINGS if code not in RISKS)
