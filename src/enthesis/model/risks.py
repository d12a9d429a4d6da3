"""The risks that an estate can hold: what is no mistake, and lets somebody in or lasts longer than is meant."""

RISKS = {
    "strangers-admitted": "a trust on an issuer that others use too admits subjects that are not ours",
    "owned-unsaid": "an issuer is shared, and which of its subjects are ours is not said",
    "any-audience": "a trust admits tokens that were made for somebody else",
    "name-cut-short": "a pattern ends inside a name, so that longer names match too",
    "only-barred": "a trust says only who is not admitted",
    "fork-admitted": "runs that somebody else's change can start are admitted to an identity that can write",
    "whole-account": "a trust admits a whole account where one identity is meant",
    "no-reference": "another party is admitted without an agreed reference",
    "never-holds": "conditions that nothing can ever meet",
    "claim-never-issued": "a condition on a claim that its issuer never issues",
    "long-session": "sessions last longer than any journey needs",
    "trust-in-trust": "a trust admits nobody that another one of the same identity does not",
    "origin-forgotten": "a caller from elsewhere becomes one of ours and so passes a ceiling meant for it",
    "endless-key": "a keyed credential has no end, or a later one than keys may have",
    "everything-allowed": "a role that allows everything is bound at an account or above",
    "power-unexplained": "a role that can change access is bound at an account or above without an end or a reason",
    "temporary-endless": "what is said to be temporary has no end",
    "not-ours": "a statement that Enthesis did not make opens what is ours on the live side",
    "drift": "a statement on the live side is not as the estate describes it",
    "acceptance-idle": "a risk is accepted that is not there",
}
"""Stable codes, each with what it means."""
LIVE_RISKS = ("not-ours", "drift")  # found on the live side alone
