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


SWEEPER = "surge/cluster/grid/namespace/nowcast/identity/sweeper"
ENACT = Scene("Carried out.", ("enact", "--yes", "--quiet"))
ENACT_POWER = Scene(
    "Carried out; that Jonas may change access is accepted by name.",
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
            Scene("An estate describes the access that workloads are meant to have. Is it sound?", ("check",)),
            Scene("Nothing is set up yet, so the journey that should work does not.", ("prove",), 1),
            Scene("What would make it so?", ("propose", "--out", "proposal.json")),
            Scene(
                "Carry it out, with the administrators' one-hour sessions.",
                ("enact", "proposal.json", "--yes", "--quiet"),
            ),
            Scene("Now the pipeline gets in without any stored key, and the wrong branch does not.", ("prove",)),
            Scene("And nothing is left to do.", ("propose", "--expect-none")),
        ),
        files=("estate.yaml", "publishing.yaml", "expected.yaml"),
    ),
    "cluster": Chapter(
        "a job in a cluster, and what it may clean up",
        "In the forecast cluster, a nowcast job cleans up its own namespace's workloads, and not the platform's.",
        (
            Scene("The cluster is one estate and one chain with the clouds. Is it sound?", ("check", "--quiet")),
            Scene("Nothing is set up yet.", ("prove", "--quiet"), 1),
            Scene("A role is defined once, and bound in one namespace only.", ("enact", "--yes")),
            Scene("The cluster's own review is asked, and each thing tried.", ("prove",)),
            Scene("Whoever is near the one that the cloud admits is refused.", ("prove", "--near-misses", "--quiet")),
            Scene(
                "From outside the cluster: a kubeconfig that holds no token, and asks here for one each time.",
                ("lend", SWEEPER, "--write-kubeconfig", "lent.config"),
            ),
            Scene(
                "Any client comes with it as the job. Our own reader sees the workloads, and nothing else.",
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
            Scene("Before: no host runs as anybody.", ("prove", "--quiet"), 1),
            ENACT,
            Scene("After: each gets short sessions from the metadata service of its host.", ("prove", "--quiet")),
            Scene("The pool grows.", ("lab", "add", "gauges/pool/collectors/host/c", "--count", "3")),
            Scene("No grant changes by that.", ("propose", "--expect-none", "--quiet")),
            Scene(
                "What a new member finds.", ("lab", "on", "gauges/pool/collectors/host/c-2", "--", "enthesis", "whoami")
            ),
            Edit("The trust is taken away.", "collectors.yaml", COLLECTORS, ""),
            Scene("New sessions end at once; those that are out live on for a while.", ("enact", "--yes", "--prune")),
            Scene("So now.", ("prove", "a-host-writes-levels"), 1),
        ),
        files=("estate.yaml", "collectors.yaml"),
    ),
    "managed": Chapter(
        "managed identities, tied and independent",
        "A function renders the bulletin's pages with an identity of its own; a connector shares the sending one.",
        (
            Scene("Before.", ("prove", "--quiet"), 1),
            ENACT,
            Scene("After: the grants are the identities', never those of what they are attached to.", ("prove",)),
            Scene("As whom does the function act?", ("card", "bulletin/function/render")),
            Scene("The function goes, and the identity that is tied to it with it.",
                  ("lab", "remove", "bulletin/function/render")),
            Scene("Its grant is left, and names what is gone.", ("propose",)),
            Scene("Another function of the same name comes, with an identity of the same name.",
                  ("lab", "add", "bulletin/function/render", "--tied", "bulletin/identity/render")),
            Scene("It inherits nothing.", ("prove", "the-function-reads-drafts-as-itself"), 1),
        ),
        files=("estate.yaml", "rendering.yaml"),
    ),
    "service-accounts": Chapter(
        "a service account as who and as what, and people",
        "Maren asks for service accounts and uses one on the bench; Jonas binds them, and does nothing else.",
        (
            Scene("Before.", ("prove", "--quiet"), 1),
            ENACT_POWER,
            Scene("After: making and binding are two permissions, and logging in needs `use` on who a host runs as.",
                  ("prove",)),
            Scene("Both faces on one page.", ("card", "gauges/identity/calibrator")),
        ),
        files=("estate.yaml", "people.yaml"),
    ),
    "groups": Chapter(
        "a group whose members are found by a rule",
        "Who calibrates in the north is found by a rule, so that nobody has to remember to add or to remove anybody.",
        (
            Scene("Before.", ("prove", "--quiet"), 1),
            ENACT,
            Scene("After.", ("prove",)),
            Scene("Who is in it, why, and who would be if it asked one thing less?", ("card", "gauges/group/northern")),
            Edit("An instance moves to the northern coast.", "groups.yaml", "coast: south", "coast: north"),
            Scene("Its identity is a member at once, and no grant changes.", ("propose", "--quiet")),
        ),
        files=("estate.yaml", "groups.yaml"),
    ),
    "keys": Chapter(
        "keyed credentials, known so that they can be revoked",
        "A tape robot outside of any cloud wants a key.",
        (
            ENACT,
            Scene("The keyless way comes first.", ("credential", "tape", "--of", "gauges/identity/archiver"), 1),
            Scene("There is none for the robot, so: a reason, an end, and a file that nobody else reads.",
                  ("credential", "tape", "--of", "gauges/identity/archiver", "--because", "the tape robot",
                   "--for", "7d", "--into", "tape.key", "--anyway")),
            Scene("Known, so that it can be revoked.", ("credential",)),
            Scene("Revoked.", ("credential", "tape", "--revoke")),
        ),
        files=("estate.yaml", "archive.yaml"),
    ),
    "pipeline-access": Chapter(
        "what a pipeline service keeps for its projects",
        "The pipeline service keeps a way into an identity. Who may use it is written like a trust.",
        (
            ENACT,
            Scene("Who may?", ("admit", "archive-way")),
            Scene("Runs near those that may, for real; one of another organisation among them.",
                  ("prove", "--near-misses", "archive-way")),
        ),
        files=("estate.yaml", "archive.yaml"),
    ),
    "lending": Chapter(
        "whoami and lend, in a run and as a person",
        "The same program runs as the same identity in a pipeline and on a laptop, with nothing on disk.",
        (
            ENACT_POWER,
            Scene("In a run of the pipeline: what is at hand?", (*RUN, "enthesis", "whoami")),
            Scene("Lent to a program, through two identities.", (*RUN, "enthesis", *LEND)),
            Scene("On a laptop nothing is at hand.", ("whoami",), 1),
            Scene("So somebody signs in, and agrees on another screen.", ("sign-in",),
                  beside=("lab", "agree", "--as", "@saltmarsh/identity/maren", "--mfa")),
            Scene("For eight hours at the most.",
                  ("lend", "gauges/identity/calibrator", "--", "enthesis", "whoami")),
            Scene("Or until it is ended.", ("sign-out",)),
        ),
        files=("estate.yaml", "publishing.yaml", "expected.yaml", "people.yaml"),
    ),
    "narrowing": Chapter(
        "a role of everything becomes what was used",
        "Somebody made the page writer able to do everything, for now. That was more than a year ago.",
        (
            Edit("For now.", "publishing.yaml", "page-writing:        {allows: {object: [write, list]}}",
                 'page-writing:        {allows: {"*": ["*"]}}'),
            Edit("And everywhere in the account.", "publishing.yaml",
                 "role: page-writing, at: bulletin/bucket/public-pages}", "role: page-writing, at: bulletin}"),
            ENACT,
            Scene("A year goes by; the lab records what is done.", ("lab", "use", "--days", "400", "--seed", "7")),
            Scene("What was recorded is collected.", ("survey", "--usage", "usage.jsonl")),
            Scene("What was used, as roles and grants?", ("trim", "--usage", "usage.jsonl"), 1),
            Scene("Written into the files.", ("trim", "--usage", "usage.jsonl", "--write", "--quiet")),
            Scene("Carried out.", ("enact", "--yes", "--quiet", "--prune")),
            Scene("The bulletin is still published.", ("prove", "publish-from-main")),
        ),
        files=("estate.yaml", "publishing.yaml", "expected.yaml"),
    ),
    "keyless": Chapter(
        "five keys become none",
        "Five programs were each given a key once. Two of them even act as the same identity.",
        (
            ENACT,
            *(
                Scene("A key, as somebody once made it." if name == "tape" else "",
                      ("credential", name, "--of", of, "--form", form, "--because", "it was quick", "--for", "20d",
                       "--into", f"{name}.key", "--anyway", "--quiet"))
                for name, of, form in KEYS
            ),
            Scene("All of them work, and what they do is recorded.", ("prove", "--quiet", *AT_HAND)),
            Scene("", ("survey", "--usage", "usage.jsonl")),
            Scene("They are to go.", ("retire", "--plan", "--yes", "--quiet")),
            Scene("What is the narrowest keyless way? The log says what the key was used for.",
                  ("retire", "tape", "--usage", "usage.jsonl")),
            Scene("All of them described, and carried out.",
                  ("retire", "--next", "--usage", "usage.jsonl", "--yes", "--quiet")),
            Scene("", ("enact", "--yes", "--quiet")),
            Scene("Are the ways in place live?", ("retire", "--next", "--yes", "--quiet")),
            Scene("Each is tried for real, with what the key was used for.",
                  ("retire", "--next", "--usage", "usage.jsonl", "--yes", "--quiet")),
            Scene("One program was forgotten, and still uses its key.",
                  ("prove", "the-tape-robot-reads-levels", "--credential", "tape=tape.key", "--quiet")),
            Scene("So that key stays.", ("retire", "tape")),
            Scene("The program is moved. What was not used for a while is idle; in earnest that takes two weeks.",
                  ("retire", "--next", "--idle", "0s", "--yes", "--quiet")),
            Scene("What do they lose when they are disabled?", ("retire", "model", "--next", "--idle", "0s"), 1),
            Scene("Disabled; a step back is one command.", ("retire", "--next", "--idle", "0s", "--yes", "--quiet")),
            Scene("And deleted, in earnest after a month. The tape's key follows a step behind.",
                  ("retire", "--next", "--idle", "0s", "--keep", "0s", "--yes", "--quiet")),
            Scene("", ("retire", "--next", "--idle", "0s", "--keep", "0s", "--yes", "--quiet")),
            Scene("Where does each stand?", ("retire",)),
        ),
        estate="keyless",
    ),
    "leaver": Chapter(
        "somebody leaves, and takes no access along",
        "Maren leaves on Friday. What she could do is to end at once, and nothing is to give it back.",
        (
            ENACT_POWER,
            Scene("What does she have, who depends on it, and what may she have copied?",
                  ("cutoff", "@saltmarsh/identity/maren"), 1),
            Scene("Withdrawn; what closes most comes first.",
                  ("cutoff", "@saltmarsh/identity/maren", "--yes", "--quiet", "--because", "left on Friday")),
            Scene("Does anything still open? Tried for real.", ("cutoff", "@saltmarsh/identity/maren", "--check")),
            Scene("The files say so too, so the next proposal gives nothing back.", ("propose", "--expect-none")),
            Scene("What else lingers?", ("sweep", "--ask")),
        ),
        files=("estate.yaml", "publishing.yaml", "people.yaml"),
    ),
    "patterns": Chapter(
        "small correct estates to start from",
        "Nobody has to begin with an empty page.",
        (
            Scene("Which are there?", ("start",)),
            Scene("One of them, with the usual names.",
                  ("start", "instance-reads-bucket", "reading", "--usual-names")),
            Scene("It is sound, with journeys and an invariant in it.", ("check", "--estate", "reading")),
            Scene("The same for another environment.",
                  ("start", "--like", "field", "--for", "field-trial", "--into", "reading", "--quiet")),
            Scene("Nothing but names is different.",
                  ("check", "--estate", "reading", "--compared-with", "reading", "--names", "field=field-trial")),
        ),
        files=(),
        lab=False,
    ),
}  # fmt: skip
