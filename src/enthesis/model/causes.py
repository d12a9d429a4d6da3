"""Every cause of an error, by its code: what it means, and how to fix it. `docs/errors.md` is this table."""

from typing import NamedTuple


class Cause(NamedTuple):
    """A cause: what is wrong, and what to do about it."""

    what: str
    fix: str


CAUSES = {
    # the request
    "argument-missing": Cause("An argument that the command needs is missing.", "Give it; `--help` shows the form."),
    "command-unknown": Cause("No command has this name.", "Use the command that the message names."),
    "option-unknown": Cause("The command has no such option.", "Use the option that the message names."),
    "name-ambiguous": Cause("Several addresses end with this word.", "Name one with its account."),
    "list-unknown": Cause("No list has this name.", "Use a list that the message names."),
    "format-unknown": Cause("Answers do not have this format.", "Use a format that the message names."),
    "option-invalid": Cause("The value of an option has the wrong form.", "Write it as the message says."),
    "options-conflict": Cause(
        "Two options exclude each other, or one needs another.", "Leave one out, or add the other."
    ),
    "renamed": Cause("A command, an option or a word was renamed.", "Use the new name; see upgrading."),
    "nobody-to-ask": Cause(
        "The command asks before it acts, and no terminal is attached.", "Give --yes, or the values."
    ),
    "duration-invalid": Cause("A duration has the wrong form.", "Write it like 15m, 8h or 30d."),
    "time-invalid": Cause("A time has the wrong form.", "Write it like 2027-01-31T12:00:00Z."),
    "end-past": Cause("The end of a credential is in the past.", "Give a later end."),
    "end-too-late": Cause("A credential would live longer than is allowed here.", "Give an earlier end."),
    "name-invalid": Cause("A name has characters that a name cannot have.", "Use letters, digits, `-`, `_` and `.`."),
    "address-invalid": Cause("An address or a pattern is not well formed.", "Write it as the message says."),
    "claim-invalid": Cause("A claim is not one that the issuer signs, or has the wrong type.", "Correct the claim."),
    "meant-invalid": Cause("The conditions of --meant cannot be read.", "Write them as in an estate."),
    "hop-invalid": Cause(
        "A hop leads onto a resource that runs no code.", "Name an identity, host, pool, function or workload."
    ),
    # names
    "address-unknown": Cause("No such address in the estate.", "Use one of the near names, or describe it."),
    "identity-unknown": Cause("No such identity.", "Use one of the near names, or describe it."),
    "issuer-unknown": Cause("No such issuer.", "Use one of the near names, or describe it."),
    "issuer-without-url": Cause("The issuer has no url.", "Add `url` to the issuer."),
    "claims-without-issuer": Cause(
        "Claims were given for an origin that is not an issuer.", "Name an issuer with --from."
    ),
    "trust-unknown": Cause("No such trust or identity.", "Use one of the near names."),
    "trust-missing": Cause("The identity has no trust, so it cannot be taken on.", "Add a trust."),
    "journey-unknown": Cause("No such journey.", "Use one of the near names."),
    "journey-without-hop": Cause("The journey makes an attempt before it takes on an identity.", "Add `through`."),
    "journey-context-not-now": Cause(
        "The journey is about a context that cannot be tried now.", "Use `enthesis check`."
    ),
    "members-many": Cause("A pool has many members to try.", "Say how many with `--members`."),
    "verb-unknown": Cause("No such verb.", "Use one of the near names."),
    "cluster-unknown": Cause("No such cluster in the estate.", "Add it to `resources`."),
    "credential-unknown": Cause("No such credential.", "`enthesis credential` lists them."),
    "credential-ambiguous": Cause("Several credentials have this name.", "Add --of and --at."),
    "form-unknown": Cause("No such form of credential.", "Use one that the message lists."),
    "card-unknown": Cause("No such address, role, credential or pipeline access.", "Use one of the near names."),
    "twin-unknown": Cause("The original of a twin is not an account or identity.", "Name one of the estate."),
    "twin-exists": Cause("The estate already has an entry of this name.", "Choose another name."),
    "pattern-unknown": Cause("No such pattern.", "`enthesis start --list` lists them."),
    "pattern-name-unknown": Cause("The pattern has no such name.", "`enthesis start --list` shows its names."),
    "topic-unknown": Cause("`help` knows nothing of this word.", "`enthesis help` lists the topics."),
    "chapter-unknown": Cause("No such chapter.", "`enthesis demo --list` lists them."),
    "remedy-unknown": Cause("No remedy has this number.", "Run `trace` again and count."),
    "remedy-changes-nothing": Cause("The remedy changes the question, not the estate.", "Ask as it says."),
    "party-unknown": Cause("No such organisation or account in the lab.", "Use one of the near names."),
    "connector-unknown": Cause("No connector of this name is installed.", "Install its package."),
    "service-account-invalid": Cause(
        "Not the address of a cluster's service account.", "Write it as the message says."
    ),
    "samples-differ": Cause("Sample tokens come from different issuers.", "Give samples of one issuer at a time."),
    "pipeline-access-closed": Cause("A pipeline access has no condition, so no run may use it.", "Add `admits`."),
    "provider-ambiguous": Cause("The identity is known at several providers, or at none.", "Add --at."),
    "credentials-not-made": Cause("The system that holds the identity creates no credentials.", "Use a keyless way."),
    # files
    "file-unreadable": Cause("A file cannot be read.", "Check its name and its permissions."),
    "file-unwritable": Cause("A file cannot be written.", "Check the folder, its permissions and the free space."),
    "file-not-text": Cause("A file is not UTF-8 text.", "Save it as UTF-8."),
    "file-unparsable": Cause("A file is not valid YAML or JSON.", "Correct it at the line that the message names."),
    "file-exists": Cause("The file is there already and is not overwritten.", "Name another file."),
    "file-in-estate": Cause(
        "The file would be read as part of an estate.", "Write it elsewhere, or list it under `ignore`."
    ),
    "file-not-editable": Cause("A file is written in a form that this edit cannot keep.", "Edit it by hand."),
    "edit-differs": Cause("After the edit the files would not say what was meant.", "Edit them by hand."),
    "folder-not-empty": Cause("The folder is not empty.", "Name a fresh folder."),
    "folder-unusable": Cause("The folder cannot be used.", "Check its permissions."),
    "unsafe-path": Cause(
        "The estate's folder belongs to another user, or its place of work is a link to elsewhere.",
        "Copy the files, make them yours, or remove the link.",
    ),
    "folder-not-private": Cause(
        "Others can use the folder, so no secret is kept there.", "Make it yours alone (0700)."
    ),
    "estate-missing": Cause("There is no `estate.yaml` here or above.", "Name the folder with --estate."),
    "estate-invalid": Cause("The estate has errors; each is listed with its own code and line.", "Correct each."),
    "estate-inside-estate": Cause("The folder is part of another estate.", "Name a folder outside of it."),
    "estate-needed": Cause("What was asked needs an estate, and none is here.", "Name the folder with --estate."),
    "revision-unknown": Cause("Neither a folder with an estate nor a git revision.", "Name one of both."),
    "revision-without-estate": Cause("There was no estate in this folder at that revision.", "Name a later revision."),
    "git-missing": Cause("git is not installed.", "Install it, or name a folder."),
    "git-timeout": Cause("git did not answer in time.", "Run git by itself to see why."),
    "survey-invalid": Cause("The file is not a survey of this version.", "`enthesis survey --out FILE` makes one."),
    "proposal-invalid": Cause(
        "The file is not a proposal of this version.", "`enthesis propose --out FILE` makes one."
    ),
    "file-too-large": Cause("The file is larger than what is read of its kind.", "Name the file that was meant."),
    "authority-unusable": Cause(
        "The certificate by which a server is to prove itself is missing or damaged.",
        "Write it again; `enthesis lab start` does where it is a lab's.",
    ),
    "lab-sessions-unusable": Cause(
        "The file with the sessions of the lab's administrators is missing or damaged.",
        "`enthesis lab start` writes it.",
    ),
    "disk-unusable": Cause("The disk is full, or does not take what is written.", "Make room, and run it again."),
    "value-not-written": Cause(
        "The value of a new credential could not be written, so it was revoked.", "Create it again, in another file."
    ),
    "token-for-another": Cause(
        "A token is not made for the service that it would be shown to.", "Get one with that audience."
    ),
    "session-of-another": Cause(
        "A session would go to a service that did not issue it.", "Take on an identity at that service."
    ),
    "proposal-differs": Cause(
        "The proposal in a file is not what the estate and the live side make now.", "Propose again, and read it."
    ),
    "danger-not-accepted": Cause(
        "The proposal contains a danger that was not accepted.", "Read it, then name the danger with --accept."
    ),
    "danger-unknown": Cause("No danger has the name that is accepted.", "Use a name that `propose` shows."),
    "proposal-of-another-estate": Cause("The proposal was made for another estate.", "Propose for this one."),
    "connections-invalid": Cause(
        "The file of connections is not understood.", "Correct it; `enthesis connections` lists what it says."
    ),
    "connections-unsafe": Cause(
        "Others can write the file of connections, which says what commands are run.",
        "Take the right to write from them.",
    ),
    "secret-not-there": Cause(
        "There is no secret in the place that the file of connections names.", "Set the variable, or mend the command."
    ),
    "credential-file-invalid": Cause("The file is not one of a keyed credential.", "Write id, form and value as JSON."),
    "client-file-invalid": Cause(
        "The file does not describe a registered client.", "Write client_id and its key or secret."
    ),
    "client-key-unusable": Cause("A key or token file that another file names cannot be used.", "Correct that file."),
    "kubeconfig-invalid": Cause("The file is not a kubeconfig.", "Name another with --kubeconfig."),
    "kubeconfig-incomplete": Cause("The kubeconfig is incomplete or cannot be used.", "Correct it, or name a context."),
    "kubeconfig-not-honoured": Cause(
        "The kubeconfig has a key that is not supported here.", "Use another context, or leave it out."
    ),
    "kubeconfig-unchecked": Cause(
        "The kubeconfig says not to check the cluster's certificate.", "Give its authority instead."
    ),
    "kubeconfig-command-failed": Cause("The command that a kubeconfig names gave no credential.", "Run it by itself."),
    "adoption-impossible": Cause("What is there cannot be described without errors.", "See the message."),
    "statement-not-held": Cause("The live system cannot hold such a statement.", "Change it as the message says."),
    # tokens and credentials
    "authority-unknown": Cause(
        "The key is not that of the authority whose certificates the host takes, as far as the estate says.",
        "Write the authority's public key at the issuer, or give its own key.",
    ),
    "passphrase-needed": Cause("The key is kept under a passphrase.", "Run it at a terminal, which asks for it."),
    "certificate-invalid": Cause(
        "The file is not an SSH certificate, or it cannot be read.", "Give the `-cert.pub` file that the client showed."
    ),
    "token-missing": Cause("The file has no signed token.", "Give one of three parts joined by dots (RFC 7515)."),
    "token-unreadable": Cause("The token cannot be read.", "The message says which part is wrong."),
    "token-not-shown": Cause("A token is given only to a client that asks for it.", "Use the written kubeconfig."),
    "value-on-terminal": Cause("The value of a credential is not shown on a terminal.", "Use --into or --descriptor."),
    "credential-exists": Cause("The provider has a credential of this name already.", "Choose another name."),
    "credential-deleted": Cause(
        "The credential was deleted, so no step back is left.", "Make a new one where it is needed."
    ),
    "credential-not-shown": Cause("The provider made a credential and did not show it.", "Revoke it there."),
    "keys-unusable": Cause(
        "The published keys of an issuer cannot be used.", "The message says which rule they break."
    ),
    "client-version-unknown": Cause("A client asks in a version that is not known.", "Update one of both."),
    "program-not-run": Cause("The program cannot be run.", "Check its name and its permissions."),
    "session-not-renewed": Cause("The identity cannot be taken on any more.", "`enthesis trace` says why."),
    # sign-in
    "sign-in-not-agreed": Cause("No person agreed to the sign-in in time.", "Sign in again."),
    "sign-in-refused": Cause("The directory refused the sign-in.", "The message has its reason."),
    "sign-in-needed": Cause(
        "An enactment runs as a signed-in person, and no sign-in is available.", "Sign in: enthesis sign-in."
    ),
    "sign-in-not-waiting": Cause("No sign-in waits for agreement.", "Start one: `enthesis sign-in`."),
    "sign-out-incomplete": Cause(
        "A sign-in could not be ended at its directory.", "It ends by itself within eight hours."
    ),
    "directory-unknown": Cause("No directory is known where people sign in.", "Add `directory` to the organisation."),
    "directory-ambiguous": Cause("There are several directories.", "Add --organisation."),
    # live systems
    "lab-not-running": Cause("No lab runs for this estate.", "`enthesis lab start`."),
    "lab-failed": Cause("The lab could not be started or stopped.", "The message has the last lines of its log."),
    "lab-service-unknown": Cause("The lab has no such service.", "`enthesis lab status` lists them."),
    "lab-directory-missing": Cause("The lab has no directory of this organisation.", "Describe people in the estate."),
    "metadata-service-missing": Cause(
        "No metadata service is available here.", "Name a host that runs as an identity."
    ),
    "cluster-access-unknown": Cause("Nothing says how the cluster is reached.", "Name a kubeconfig with --kubeconfig."),
    "database-access-invalid": Cause(
        "A file for --database does not hold a connection string.", "Write one line, as psql takes it."
    ),
    "host-unknown": Cause("No such host with a url that is connected.", "Add its url to `resources`, and start a lab."),
    "database-unknown": Cause("No such database with a url in the estate.", "Add it to `resources`."),
    "directory-file-invalid": Cause(
        "A file for --directory does not say how the directory is reached.",
        "Write a bearer token there, or an object with url and token.",
    ),
    "people-not-kept": Cause(
        "No such organisation whose people the estate keeps.", "Add `people: URL` to it in `organisations`."
    ),
    "database-unreachable": Cause(
        "A database did not answer, or did not let us in.", "Check its connection string and that the server runs."
    ),
    "platform-not-known": Cause("This works on Linux alone.", "Run it on Linux, or in a container."),
    "server-not-installed": Cause(
        "A real server that this needs is not installed.", "Install the package that the message names."
    ),
    "server-too-old": Cause("The server is of a version that is not understood.", "Use PostgreSQL 12 or later."),
    "system-not-connected": Cause(
        "A live system that this needs is not connected.", "Start a lab, or give its url or file."
    ),
    "administrator-session-missing": Cause(
        "No administrator's session is at hand.", "`enthesis lab start` renews them."
    ),
    "right-missing": Cause("The live system refused us.", "Get the right that the message names."),
    "unreachable": Cause("The live system cannot be reached.", "Check its url and the network."),
    "timeout": Cause("The live system did not answer in time.", "Try again."),
    "not-https": Cause("The url is neither https nor loopback.", "Use https."),
    "url-invalid": Cause("The url is not well formed.", "Correct it in the estate."),
    "answer-unexpected": Cause("The live system answered with an unexpected status.", "The message has what it said."),
    "answer-not-understood": Cause(
        "The answer is not in the expected form.", "Check that the url is of such a service."
    ),
    "answer-incomplete": Cause("The answer lacks a required field.", "Check that the url is of such a service."),
    "answer-without-token": Cause("The answer has no token, or not how long it lives.", "Check the server's settings."),
    "answer-too-large": Cause("The answer is larger than is read.", "Ask for less."),
    "answer-leads-elsewhere": Cause(
        "The answer names an address on another service.", "It is not followed; check the server."
    ),
    "answer-contradicts": Cause("Two answers of the live system contradict each other.", "Try again; report it there."),
    "server-identity-mismatch": Cause("The server says that it is another one.", "Correct the url in the estate."),
    "endpoint-missing": Cause("The server does not offer what this needs.", "Check its discovery document."),
    "client-needed": Cause("A token service must know which client asks.", "Name its file: --client PROVIDER=FILE."),
    "nothing-asked": Cause(
        "A question has no hop and no attempt.", "Say what is attempted, or which identity is taken on."
    ),
    "question-invalid": Cause("A program asks what is not a question.", "See docs/library.md."),
    "client-method-not-offered": Cause(
        "The server offers no way that this client can use.", "Register the client otherwise."
    ),
    "not-issued": Cause("The issuer signs no such statement.", "Ask for claims that it signs."),
    "narrowing-not-known": Cause("How this service narrows a session is not known.", "Leave `narrowed` out."),
    "port-missing": Cause(
        "What this service is reached by does not do that.",
        "Reach it by another connector; `enthesis connections` says how it is reached.",
    ),
    "verb-not-of-cluster": Cause("A cluster cannot be asked to do this.", "Use a verb of its resources."),
    "address-not-of-cluster": Cause("The address is not in this cluster.", "Correct the address."),
    "run-not-started": Cause("The provider did not run the program.", "The message has its reason."),
    "proof-impossible": Cause("This cannot be tried for real.", "Use `enthesis check`."),
    "proof-without-control": Cause(
        "The admitted caller is refused, so a refusal proves nothing.", "Make the journey work first."
    ),
    "time-not-movable": Cause("The clock of this system cannot be moved.", "Try expiry at a lab."),
    # change
    "live-side-changed": Cause("The live side changed after the proposal was made.", "Propose again."),
    "changed-meanwhile": Cause("Another person or program changed a statement meanwhile.", "Propose again."),
    "gone-meanwhile": Cause("Something that a step needs no longer exists.", "Propose again."),
    "name-taken": Cause("The name is taken by an object that is not ours.", "Choose another name, or adopt it."),
    "stopped-part-way": Cause(
        "Some steps are done, the rest are not.", "`enthesis enact --resume`, or propose again, as the message says."
    ),
    "lease-held": Cause(
        "Another enactment is running at the same account.", "Give --wait, or run the same again later."
    ),
    "enactment-unfinished": Cause(
        "An earlier enactment was interrupted.", "`enthesis enact --resume`, with --undo to take it back."
    ),
    "survey-unknown": Cause("The store keeps no such survey.", "`enthesis history documents` lists them."),
    "finding-unknown": Cause("No finding of a sweep has this code.", "docs/commands/sweep.md lists them."),
    "fingerprints-missing": Cause(
        "No credential that is known has a fingerprint.", "Sweep with --ask, or write the fingerprints down."
    ),
    "usage-invalid": Cause("The file is not a log of recorded use.", "See the format in docs/concepts/usage.md."),
    "library-missing": Cause("A library that only this needs is not installed.", "Install the extra that is named."),
    "account-unknown": Cause(
        "The name is not an account or organisation that this estate administers.",
        "Name an account or organisation of this estate.",
    ),
    "approval-missing": Cause(
        "The estate asks for the approval of others for such a change.", "`enthesis propose --approve FILE`."
    ),
    "server-absent": Cause("A server that a journey ends at did not start.", "See its log, then `enthesis lab start`."),
    "history-elsewhere": Cause(
        "The live side has statements of this estate, of which the store knows nothing.", "Name the store: `--store`."
    ),
    "approver-unknown": Cause("The key is not that of an approver.", "Add it to `approvers`, or ask another one."),
    "handoff-invalid": Cause("A document of another party cannot be taken in.", "Ask them for another one."),
    "handoff-unknown": Cause("An answer is to nothing that was asked for here.", "`enthesis request`."),
    "signature-invalid": Cause("A document is not signed by the key that was given.", "Check the key, and its source."),
    "key-invalid": Cause("A file holds no key of the kind that is needed.", "`ssh-keygen -t ed25519` makes one."),
    "lab-running": Cause("A lab of the estate runs already.", "`enthesis lab stop`."),
    "enactment-unknown": Cause("No such enactment, or none to continue.", "`enthesis history` lists them."),
    # the store
    "store-invalid": Cause("The store cannot be used as one.", "Correct its URL, or move the file away."),
    "store-unreachable": Cause("The database with the store does not answer.", "Check its URL, and that it runs."),
    "store-of-another-version": Cause("A later version of Enthesis made the store.", "Use that version."),
    "clock-behind-store": Cause(
        "This machine's clock is behind the last enactment in the store.", "Set the clock right."
    ),
    "not-decided": Cause("The question is past a bound on work.", "Ask about less at once."),
    "fault-of-ours": Cause("A fault of Enthesis itself.", "Run again with --debug and report the traceback."),
}

IN_ESTATE = {
    "unreadable-file": Cause("A file cannot be parsed.", "Correct the syntax at that place."),
    "no-estate": Cause("The folder has no `estate.yaml`.", "Add one with `estate: NAME`."),
    "not-an-estate-file": Cause("A file has no section of an estate.", "Move it, or list it under `ignore`."),
    "renamed": Cause("A word was renamed.", "`enthesis check --fix` rewrites it."),
    "unknown-section": Cause("No such section.", "Use one of those listed."),
    "unknown-field": Cause("No such field in this entry.", "Use one of those listed."),
    "unknown-word": Cause("No such value for this field.", "Use one of those listed."),
    "unknown-name": Cause("The name is not defined in the estate.", "Define it, or use a near name."),
    "unknown-attribute": Cause("No such attribute in a condition.", "Use one of those listed."),
    "unknown-operator": Cause("No such test in a condition.", "Use one of those listed."),
    "missing-field": Cause("A field is missing.", "Add it."),
    "one-of": Cause("Exactly one of some fields is needed.", "Write one of them."),
    "duplicate": Cause("The same thing is defined twice.", "Keep one."),
    "empty": Cause("A list or mapping is empty where it cannot be.", "Add an entry, or leave the field out."),
    "too-long": Cause("A text is longer than is read.", "Shorten it."),
    "wrong-type": Cause("A value has the wrong type.", "Write what was expected; quotes make a text."),
    "wrong-name": Cause("A name has characters that it cannot have.", "Choose another."),
    "wrong-address": Cause("An address is not well formed.", "Write it as the message says."),
    "wrong-place": Cause("An entry stands where its kind cannot.", "Move it to a place that is listed."),
    "wrong-kind": Cause("The address is of another kind than is needed here.", "Name one of the expected kind."),
    "wrong-duration": Cause("A duration has the wrong form or is out of bounds.", "Write it like 15m, 8h or 30d."),
    "wrong-time": Cause("A time has the wrong form.", "Write it like 2027-01-31T12:00:00Z."),
    "wrong-network": Cause("A network has the wrong form.", "Write it like 10.0.0.0/8."),
    "wrong-key": Cause("A key is not the public key of an ssh authority.", "Write it as `ssh-keygen -y` prints it."),
    "wrong-url": Cause("A url is not well formed or not https.", "Write an https url."),
    "wrong-pattern": Cause("A pattern is not well formed.", "Write it as the message says."),
    "pattern-in-plain-string": Cause("A plain text looks like a pattern.", "Write {glob: …}, or escape it."),
    "wrong-test": Cause("A test does not fit its attribute.", "Use one that fits."),
    "wrong-attempt": Cause("An attempt has the wrong form.", "Write `verb address`."),
    "wrong-holder": Cause("No account could hold the statement there.", "Name a holder above the place."),
    "absence-as-permission": Cause("A condition would hold because an attribute is absent.", "Test a value."),
    "contradiction": Cause("Two parts of an entry contradict each other.", "Change one."),
    "claim-not-issued": Cause("The issuer signs no such claim.", "Use one that its `claims` lists."),
    "claim-not-list": Cause("The issuer signs this claim as a text, or as a list.", "Write it in that form."),
    "cannot-run": Cause("Nothing runs as this, or on this.", "Name a host, pool, function, workload or connector."),
    "group-cycle": Cause("Groups contain each other.", "Take one out."),
    "rule-of-everything": Cause("A rule of a group would find everything.", "Add a condition."),
    "other-organisation": Cause("The entry names a place of another organisation.", "Name one of its own."),
}
"""The errors of an estate's files: each is located, and several are reported at once."""
