"""The variables of the environment in which a credential is handed from one program to another."""

SESSION, TOKEN, TOKEN_FILE = "ENTHESIS_SESSION", "ENTHESIS_TOKEN", "ENTHESIS_TOKEN_FILE"
METADATA, CERTIFICATE = "ENTHESIS_METADATA_URL", "ENTHESIS_CERTIFICATE_FILE"
PROVIDER, AUTHORITY = "ENTHESIS_PROVIDER_URL", "ENTHESIS_AUTHORITY_FILE"
ASSERTION, ASSERTION_FILE = "ENTHESIS_ASSERTION", "ENTHESIS_ASSERTION_FILE"
VARIABLES = (SESSION, TOKEN, TOKEN_FILE, METADATA, CERTIFICATE, ASSERTION, ASSERTION_FILE)  # all that are looked at
LENDER = "lent-by-enthesis"  # what the endpoint of `enthesis lend` says that its host is
SECRETS = (SESSION, TOKEN, ASSERTION)  # variables that hold a credential itself
