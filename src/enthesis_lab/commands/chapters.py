"""The stories that `enthesis demo` tells: real commands, what is said before each, and how each must end."""

from dataclasses import dataclass

Command = tuple[str, ...]


@dataclass(frozen=True)
class Scene:
    """What is said, the command as a user types it, and the exit code that it must have.

    `beside` is a command that runs at the same time and is waited for too, as a person does on another screen.
    """

    said: str
    command: Command
    code: int = 0
    beside: Command = ()


@dataclass(frozen=True)
class Edit:
    """A change of a file of the estate, as a user makes it in an editor; `new` may be empty."""

    said: str
    file: str
    old: str
    new: str


@dataclass(frozen=True)
class Chapter:
    """One story: the packaged estate and those files of it that it is about, what is said first, and its scenes."""

    title: str
    opening: str
    scenes: tuple[Scene | Edit, ...]
    estate: str = "saltmarsh"
    files: tuple[str, ...] | None = None  # None: all of them
    lab: bool = True
    needs: str = ""  # a server or library that it is about


SWEEPER = "surge/cluster/grid/namespace/nowcast/identity/sweeper"
ENACT = Scene("Carry it out.", ("enact", "--yes", "--quiet"))
ENACT_POWER = Scene(
    "Carry it out, and accept by name that Jonas may change access.",
    ("enact", "--yes", "--quiet", "--accept", "power-gained"),
)
MAIN = ("--claim", "sub=project/tides/bulletin/branch/main", "--claim", "aud=lowland", "--claim", "event=push")
RUN = ("lab", "run", "forge", *MAIN, "--")
LEND = ("lend", "bulletin/identity/page-writer", "--", "enthesis", "whoami")
KEYS = (
    ("tape", "gauges/identity/archiver", "access-key"),
    ("relay", "gauges/identity/archiver", "access-key"),
    ("model", "surge/identity/modeller", "access-key"),
    ("nowcast", "surge/identity/nowcaster", "client-secret"),
    ("package", "build/identity/packager", "access-key"),
)
AT_HAND = tuple(word for name, _, _ in KEYS for word in ("--credential", f"{name}={name}.key"))
COLLECTORS = "  - {of: gauges/identity/collector, admits: {attached: true}, session: 30m}\n"

CHAPTERS = {
    "publishing": Chapter(
        "a pipeline publishes without any stored key",
        "Saltmarsh Flood Watch publishes its bulletin from a pipeline. No key is stored anywhere.",
        (
            Scene("An estate describes the access that workloads should have. Check it.", ("check",)),
            Scene("Nothing is set up yet, so the journey that should be allowed fails.", ("prove",), 1),
            Scene("Propose what is needed.", ("propose", "--out", "proposal.json")),
            Scene(
                "Carry it out, with the administrators' one-hour sessions.",
                ("enact", "proposal.json", "--yes", "--quiet"),
            ),
            Scene("The pipeline now publishes without a stored key, and the wrong branch is refused.", ("prove",)),
            Scene("Nothing is left to do.", ("propose", "--expect-none")),
        ),
        files=("estate.yaml", "publishing.yaml", "expected.yaml"),
    ),
    "cluster": Chapter(
        "a job in a cluster, and what it may clean up",
        "In the forecast cluster, a nowcast job cleans up its own namespace's workloads, and not the platform's.",
        (
            Scene("Clusters and clouds are described in one estate. Check it.", ("check", "--quiet")),
            Scene("Nothing is set up yet, so the journeys fail.", ("prove", "--quiet"), 1),
            Scene("Define a role once, and bind it in one namespace only.", ("enact", "--yes")),
            Scene("Ask the cluster's own access review, then try each request.", ("prove",)),
            Scene("Callers that differ slightly from an admitted one are refused.",
                  ("prove", "--near-misses", "--quiet")),
            Scene(
                "From outside the cluster: a kubeconfig that holds no token, and asks here for one each time.",
                ("lend", SWEEPER, "--write-kubeconfig", "lent.config"),
            ),
            Scene(
                "Any client can use it as the job. Our own reader sees only the workloads.",
                ("survey", "--cluster", "surge/cluster/grid", "--namespace", "nowcast", "--kubeconfig", "lent.config",
                 "--out", "seen.jsonl"),
                3,
            ),
        ),
        estate="nowcast",
    ),
    "instances": Chapter(
        "hosts and a pool that run as an instance role",
        "Tide gauges report to collectors: a host of its own, and a pool whose members come and go.",
        (
            Scene("The pool starts its members.", ("lab", "add", "gauges/pool/collectors/host/c", "--count", "3")),
            Scene("Before: no identity is attached to a host.", ("prove", "--quiet"), 1),
            ENACT,
            Scene("After: each workload gets short sessions from its host's metadata service.", ("prove", "--quiet")),
            Scene("The pool grows.", ("lab", "add", "gauges/pool/collectors/host/d", "--count", "2")),
            Scene("No grant has to change.", ("propose", "--expect-none", "--quiet")),
            Scene(
                "What a new member finds.", ("lab", "on", "gauges/pool/collectors/host/d-2", "--", "enthesis", "whoami")
            ),
            Edit("The trust is taken away.", "collectors.yaml", COLLECTORS, ""),
            Scene("Detach the identity: no new sessions; those already issued live until they expire.",
                  ("enact", "--yes", "--prune")),
            Scene("The host gets no session any more.", ("prove", "a-host-writes-levels"), 1),
        ),
        files=("estate.yaml", "collectors.yaml"),
    ),
    "managed": Chapter(
        "managed identities, tied and independent",
        "A function renders the bulletin's pages with an identity of its own; a connector shares the sending one.",
        (
            Scene("Before.", ("prove", "--quiet"), 1),
            ENACT,
            Scene("After: grants belong to the identities, not to the resources they are attached to.", ("prove",)),
            Scene("Which identity does the function run as?", ("card", "bulletin/function/render")),
            Scene("Delete the function. The identity tied to it is deleted too.",
                  ("lab", "remove", "bulletin/function/render")),
            Scene("Its grant is left behind and refers to a deleted identity.", ("propose",)),
            Scene("Create another function with the same name, and so an identity with the same name.",
                  ("lab", "add", "bulletin/function/render", "--tied", "bulletin/identity/render")),
            Scene("It does not inherit the old grant.", ("prove", "the-function-reads-drafts-as-itself"), 1),
        ),
        files=("estate.yaml", "rendering.yaml"),
    ),
    "service-accounts": Chapter(
        "a service account as who and as what, and people",
        "Maren asks for service accounts and uses one on the bench; Jonas binds them, and does nothing else.",
        (
            Scene("Before.", ("prove", "--quiet"), 1),
            ENACT_POWER,
            Scene("After: creating an identity and granting access are separate permissions, and logging in to a host "
                  "needs `run-as` on its identity.",
                  ("prove",)),
            Scene("Show what the identity can do and who can use it, on one page.",
                  ("card", "gauges/identity/calibrator")),
        ),
        files=("estate.yaml", "people.yaml"),
    ),
    "host": Chapter(
        "people log in at a real OpenSSH server with certificates, no key that stays",
        "Collectors are repaired over SSH. No key for that is kept anywhere, and no prompt asks about a fingerprint.",
        (
            Scene("Who may log in where is granted like anything else.", ("check",)),
            ENACT,
            Scene(
                "Ines logs in for real, and then acts as what the host runs as. Refused: no second factor, no right to "
                "run as the identity of the host, and another network.",
                ("prove",),
            ),
            Scene("Ines signs in, as on a laptop.", ("sign-in", "--quiet"),
                  beside=("lab", "agree", "--as", "@saltmarsh/identity/ines", "--mfa")),
            Scene(
                "Any client of OpenSSH logs in, with a key that is made for this login and forgotten after it.",
                ("lend", "@saltmarsh/identity/ines", "--for", "gauges/host/collector-1", "--", "ssh", "collector-1",
                 "echo repaired"),
            ),
            Scene("The sign-in ends.", ("sign-out",)),
        ),
        estate="hosts",
        needs="OpenSSH",
    ),
    "database": Chapter(
        "workloads log in at a real PostgreSQL with certificates, no password",
        "Levels are kept in a database with a server of its own. A pipeline reads them; collectors add to them.",
        (
            Scene("Roles, grants and trusts for the database stand beside those for the cloud.", ("check",)),
            Scene("Nobody can log in yet.", ("prove", "--quiet"), 1),
            Scene("Make the roles at the server, with their privileges, and none with a password.", ENACT.command),
            Scene(
                "A run exchanges its token for a session as a cloud identity, and that for a certificate that lives "
                "ten minutes, with which it logs in. A collector begins with a certificate of its own.",
                ("prove",),
            ),
            Scene("Certificates that differ slightly are refused too.", ("prove", "--near-misses", "--quiet")),
            Scene(
                "Any client logs in, with the key in memory alone.",
                ("lab", "run", "forge", "--claim", "sub=project/tides/levels/branch/main", "--claim", "aud=lowland",
                 "--claim", "event=push", "--", "enthesis", "lend", "gauges/identity/level-reader", "--for",
                 "gauges/database/levels", "--", "psql", "-Atc", "select current_user"),
            ),
            Scene("What the server itself has, read into a file.", ("survey", "--out", "live.jsonl")),
            Scene(
                "Who can read one table, whatever they have it by.",
                ("reach", "--survey", "live.jsonl", "--to", "gauges/database/levels/schema/tide/table/readings"),
            ),
        ),
        estate="levels",
        needs="PostgreSQL",
    ),
    "directory": Chapter(
        "a directory's people and groups, kept in step by SCIM; assertions of an identity provider",
        "People and groups stand in the directory of the organisation. Some show assertions (SAML 2.0) to a cloud.",
        (
            Scene("What the directory lacks: groups, and the workloads in them. People are there already.",
                  ("propose",)),
            ENACT,
            Scene("Omar signs in, and assertions are shown, each once.", ("prove",)),
            Scene("Assertions that differ slightly are refused.", ("prove", "--near-misses", "--quiet")),
            Edit("Omar leaves.", "estate.yaml", '"@saltmarsh/identity/omar": {kind: person}',
                 '"@saltmarsh/identity/omar": {kind: person, disabled: true}'),
            Scene("What he loses is shown first.", ("propose",)),
            ENACT,
            Scene("The directory has him inactive, so he signs in no more.", ("prove", "omar-reads-levels"), 1),
            Scene("What the directory has now, read into a file.", ("survey", "--out", "live.jsonl")),
        ),
        estate="staff",
        needs="a library for assertions",
    ),
    "groups": Chapter(
        "a group whose members are found by a rule",
        "A rule finds who calibrates in the north, so members need not be added or removed by hand.",
        (
            Scene("Before.", ("prove", "--quiet"), 1),
            ENACT,
            Scene("After.", ("prove",)),
            Scene("Show who is in the group, why, and who would join if a condition were dropped.",
                  ("card", "gauges/group/northern")),
            Edit("An instance moves to the northern coast.", "groups.yaml", "coast: south", "coast: north"),
            Scene("Its identity becomes a member at once. No grant has to change.", ("propose", "--quiet")),
        ),
        files=("estate.yaml", "groups.yaml"),
    ),
    "keys": Chapter(
        "keyed credentials, known so that they can be revoked",
        "A tape robot outside of any cloud wants a key.",
        (
            ENACT,
            Scene("A keyless way is suggested first.",
                  ("credential", "create", "tape", "--of", "gauges/identity/archiver"), 1),
            Scene("The robot has no keyless way, so create a key with a reason, an expiry and a private file.",
                  ("credential", "create", "tape", "--of", "gauges/identity/archiver", "--because", "the tape robot",
                   "--for", "7d", "--into", "tape.key", "--anyway")),
            Scene("The key is listed, so it can be revoked.", ("credential",)),
            Scene("Revoke it.", ("credential", "revoke", "tape")),
        ),
        files=("estate.yaml", "archive.yaml"),
    ),
    "pipeline-access": Chapter(
        "what a pipeline service keeps for its projects",
        "The pipeline service keeps access to an identity for its projects. Who may use it is written like a trust.",
        (
            ENACT,
            Scene("Show which runs may use it.", ("admit", "archive-way")),
            Scene("Try runs that differ slightly from those that may, one of another organisation among them.",
                  ("prove", "--near-misses", "archive-way")),
        ),
        files=("estate.yaml", "archive.yaml"),
    ),
    "lending": Chapter(
        "whoami and lend, in a run and as a person",
        "The same program runs as the same identity in a pipeline and on a laptop, with nothing on disk.",
        (
            ENACT_POWER,
            Scene("In a pipeline run: show which credentials are available.", (*RUN, "enthesis", "whoami")),
            Scene("Lend a session to a program, through two identities.", (*RUN, "enthesis", *LEND)),
            Scene("On a laptop no credential is available.", ("whoami",), 1),
            Scene("Sign in, and confirm on another screen.", ("sign-in",),
                  beside=("lab", "agree", "--as", "@saltmarsh/identity/maren", "--mfa")),
            Scene("The sign-in lasts eight hours at most.",
                  ("lend", "gauges/identity/calibrator", "--", "enthesis", "whoami")),
            Scene("Sign out.", ("sign-out",)),
        ),
        files=("estate.yaml", "publishing.yaml", "expected.yaml", "people.yaml"),
    ),
    "narrowing": Chapter(
        "a role of everything becomes what was used",
        "The page writer was made administrator 'for now'. That was more than a year ago.",
        (
            Edit("For now.", "publishing.yaml", "page-writing:        {allows: {object: [write, list]}}",
                 'page-writing:        {allows: {"*": ["*"]}}'),
            Edit("And everywhere in the account.", "publishing.yaml",
                 "role: page-writing, at: bulletin/bucket/public-pages}", "role: page-writing, at: bulletin}"),
            ENACT,
            Scene("Let the lab record a year of use.", ("lab", "use", "--days", "400", "--seed", "7")),
            Scene("Collect the recorded use.", ("survey", "usage", "usage.jsonl")),
            Scene("Narrow roles and grants to what was used.", ("trim", "--usage", "usage.jsonl"), 1),
            Scene("Write that into the files.", ("trim", "--usage", "usage.jsonl", "--write", "--quiet")),
            Scene("Carry it out.", ("enact", "--yes", "--quiet", "--prune")),
            Scene("Publishing still works.", ("prove", "publish-from-main")),
        ),
        files=("estate.yaml", "publishing.yaml", "expected.yaml"),
    ),
    "keyless": Chapter(
        "five keys become none",
        "Five programs were each given a key once. Two of them even act as the same identity.",
        (
            ENACT,
            *(
                Scene("Create a key, as was done years ago." if name == "tape" else "",
                      ("credential", "create", name, "--of", of, "--form", form, "--because", "it was quick",
                       "--for", "20d", "--into", f"{name}.key", "--anyway", "--quiet"))
                for name, of, form in KEYS
            ),
            Scene("All keys work, and their use is recorded.", ("prove", "--quiet", *AT_HAND)),
            Scene("", ("survey", "usage", "usage.jsonl")),
            Scene("Plan to retire them.", ("credential", "retire", "--plan", "--yes", "--quiet")),
            Scene("Show the narrowest keyless way for each key, from its recorded use.",
                  ("credential", "retire", "tape", "--usage", "usage.jsonl")),
            Scene("Describe all of them, and carry that out.",
                  ("credential", "retire", "--next", "--usage", "usage.jsonl", "--yes", "--quiet")),
            Scene("", ("enact", "--yes", "--quiet")),
            Scene("Check that the keyless ways are in place live.",
                  ("credential", "retire", "--next", "--yes", "--quiet")),
            Scene("Try each of them live, with what the key was used for.",
                  ("credential", "retire", "--next", "--usage", "usage.jsonl", "--yes", "--quiet")),
            Scene("One program was forgotten and still uses its key.",
                  ("prove", "the-tape-robot-reads-levels", "--credential", "tape=tape.key", "--quiet")),
            Scene("That key is kept.", ("credential", "retire", "tape")),
            Scene("Move the program. A key that is unused for a while is idle (two weeks, unless said otherwise).",
                  ("credential", "retire", "--next", "--idle", "0s", "--yes", "--quiet")),
            Scene("Show what access is lost when the keys are disabled.",
                  ("credential", "retire", "model", "--next", "--idle", "0s"), 1),
            Scene("Disable them. One command undoes that.",
                  ("credential", "retire", "--next", "--idle", "0s", "--yes", "--quiet")),
            Scene("Delete them (after a month, unless said otherwise). The key `tape` follows one step behind.",
                  ("credential", "retire", "--next", "--idle", "0s", "--keep", "0s", "--yes", "--quiet")),
            Scene("", ("credential", "retire", "--next", "--idle", "0s", "--keep", "0s", "--yes", "--quiet")),
            Scene("Show the stage of each key.", ("credential", "retire",)),
        ),
        estate="keyless",
    ),
    "leaver": Chapter(
        "a contractor leaves, and keeps no access",
        "Maren leaves on Friday. Her access must end at once, and no later proposal may restore it.",
        (
            ENACT_POWER,
            Scene("Show what she has, who depends on it, and what she may have copied.",
                  ("cutoff", "@saltmarsh/identity/maren"), 1),
            Scene("Withdraw it, starting with the step that closes most.",
                  ("cutoff", "@saltmarsh/identity/maren", "--yes", "--quiet", "--because", "left on Friday")),
            Scene("Try live whether anything is still allowed.", ("cutoff", "@saltmarsh/identity/maren", "--check")),
            Scene("The files record it too, so the next proposal does not give access back.",
                  ("propose", "--expect-none")),
            Scene("Find what else should be removed.", ("sweep", "--ask")),
        ),
        files=("estate.yaml", "publishing.yaml", "people.yaml"),
    ),
    "patterns": Chapter(
        "small correct estates to start from",
        "You do not have to begin with an empty page.",
        (
            Scene("List the patterns.", ("start",)),
            Scene("Create an estate from one of them.",
                  ("start", "instance-reads-bucket", "reading", "--usual-names")),
            Scene("It is valid, with journeys and an invariant in it.", ("check", "--estate", "reading")),
            Scene("Create the same for another environment.",
                  ("start", "--like", "field", "--for", "field-trial", "--into", "reading", "--quiet")),
            Scene("Only names differ.",
                  ("check", "--estate", "reading", "--compared-with", "reading", "--names", "field=field-trial")),
        ),
        files=(),
        lab=False,
    ),
}  # fmt: skip
