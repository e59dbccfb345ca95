package stackfile

import "reflect"

// keyRule says what a key of the stack file means and which values it takes. An empty field demands nothing.
type keyRule struct {
	// doc is the explanation that editors show, from the schema.
	doc string

	// pattern is a regular expression (RE2) for a text, items for each text of a list, keys for each name of a table.
	pattern, items, keys string

	// hint explains to a developer which values are allowed.
	hint string

	// check names a further test; see checkText.
	check string

	// minimum and maximum are the smallest and the largest number allowed.
	minimum, maximum int

	required bool
}

const (
	hostLabel = "[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?"
	hostName  = hostLabel + `(\.` + hostLabel + "){0,4}"
	hostHint  = "small letters, digits and -, as in a host name, at most 63"
	wordHint  = "letters, digits and _"
	anyText   = `\S`
	notEmpty  = "it must not be empty"
)

// keyRules has a rule for each key. Decoding, its messages and the schema all follow it.
var keyRules = map[reflect.Type]map[string]keyRule{
	reflect.TypeFor[File](): {
		"name": {
			doc:     "The stack's name. Absent: the folder's name.",
			pattern: "^" + hostLabel + "$",
			hint:    hostHint,
		},
		"requires": {doc: "Command-line programs that must be there, each with a version or a table."},
		"part": {doc: "The parts of the stack (servers, runtimes, helpers), each with a name of your choice: " +
			"letters, digits, - and _."},
		"task": {doc: "Commands that prepare the project, such as one that creates its tables."},
		"site": {doc: "The sites of the stack, each with a host name."},
		"env":  {doc: "Variables for parts and commands; {db.port} stands for the port of the part db."},
		"dotenv": {doc: "A file in the project that start fills with the stack's variables, or a table: a file of " +
			"the project's own, and the variables whose lines start keeps up to date."},
	},
	reflect.TypeFor[Dotenv](): {
		"file": {
			doc:      "A file in the project, a dot file, for tools that read one.",
			pattern:  `(^|/)\.[A-Za-z0-9][A-Za-z0-9._-]*$`,
			hint:     "a dot file, which no web server serves: .env.local",
			required: true,
		},
		"keys": {
			doc:      "The variables whose lines start keeps up to date. It leaves the other lines alone.",
			items:    "^[A-Za-z_][A-Za-z0-9_]*$",
			hint:     wordHint,
			required: true,
		},
	},
	reflect.TypeFor[PartConfig](): {
		"kind": {
			doc:      "What the part is; of a list, the first kind that this machine has and that meets every demand.",
			required: true,
		},
		"version": {
			doc:   "A version prefix (8.2) or comparisons (>= 8.1, < 8.4).",
			check: "version",
		},
		"port": {
			doc:     "A pinned TCP port. Absent: any free port, kept from then on.",
			minimum: 1,
			maximum: 65535,
		},
		"outside": {
			doc: "A server that somebody else runs, as host:port or a URL. Dravit asks it, and never starts or " +
				"stops it. Its password does not belong in this file.",
			check: "server",
		},
		"uses": {
			doc: "The parts that this one needs. Absent: a runtime or command uses every store and the mail catcher.",
		},
		"main": {
			doc: "Of several stores (databases, caches) of one sort, the one that variables without a prefix " +
				"(DATABASE_URL) mean.",
		},
		"command": {
			doc:     "The command of a part with a server of its own. It listens on {port}, which is also in PORT.",
			pattern: anyText,
			hint:    notEmpty,
		},
		"database": {
			doc:     "The name of the database. Absent: the stack's name.",
			pattern: "^[A-Za-z][A-Za-z0-9_]{0,47}$",
			hint:    wordHint,
		},
		"user": {
			doc:     "The application's database user. Absent: the database's name.",
			pattern: "^[A-Za-z][A-Za-z0-9_]{0,31}$",
			hint:    wordHint,
		},
		"extensions": {
			doc: "The runtime's extensions: names, or paths to files in the project. Absent: every one that the " +
				"machine has, debuggers aside.",
			items: `^([A-Za-z0-9_]+|[^\x00-\x1f"]*(/[^\x00-\x1f"]*|\.so))$`,
			hint:  wordHint,
		},
		"without": {
			doc:   "Extensions to leave out, of all that the machine has.",
			items: "^[A-Za-z0-9_]+$",
			hint:  wordHint,
		},
		"debugger": {doc: "Load the runtime's debugger, which connects to an editor on a port of the stack."},
		"settings": {
			doc:  "Settings of the program itself, in its own names.",
			keys: "^[A-Za-z0-9_.-]+$",
		},
		"seed": {
			doc:     "A dump in the project, plain or compressed, that start loads once, while the data folder is new.",
			pattern: anyText,
			hint:    notEmpty,
		},
		"listens": {doc: "false: the command is a worker, which runs in the background and has no port."},
		"every": {
			doc:   "How often the command of a worker runs: 5m. Absent: it keeps running.",
			check: "duration",
		},
		"patience": {
			doc: "How long the part, or the first page of its sites, may take to answer after a start, as long as it " +
				"works: 2m. Absent: 1m.",
			check: "duration",
		},
		"processes": {
			doc:     "How many processes of a worker run. Absent: 1.",
			minimum: 1,
			maximum: 64,
		},
		"proof": {doc: "How to tell that a worker works: a command that exits with 0, or a file that it writes to."},
		"writable": {
			doc:   "Folders of the project that the part writes to; start creates those that are missing.",
			items: anyText,
			hint:  notEmpty,
		},
		"writes": {doc: "true: the console may change the databases. Absent: it only reads."},
		"requires": {
			doc: "What the application itself requires of its runtime and databases: settings, " +
				"functions, writable folders.",
		},
	},
	reflect.TypeFor[Proof](): {
		"command": {doc: "A command that exits with 0 if the worker works.", pattern: anyText, hint: notEmpty},
		"file":    {doc: "A file of the project that the worker writes to.", pattern: anyText, hint: notEmpty},
		"within":  {doc: "How old the file may be. Absent: 1m.", check: "duration"},
	},
	reflect.TypeFor[Requirements](): {
		"settings": {
			doc:   `Settings of the runtime with the values they need: memory_limit = ">= 128M".`,
			keys:  "^[A-Za-z0-9_.-]+$",
			check: "demand",
		},
		"database": {
			doc:   `Variables of the databases that the part uses: max_allowed_packet = ">= 16M".`,
			keys:  "^[A-Za-z0-9_.]+$",
			check: "demand",
		},
		"functions": {
			doc:   "Functions that must not be disabled.",
			items: `^[A-Za-z_][A-Za-z0-9_\\]*$`,
			hint:  wordHint,
		},
		"writable": {
			doc:   "Folders and files of the project that the application writes to.",
			items: anyText,
			hint:  notEmpty,
		},
	},
	reflect.TypeFor[TaskConfig](): {
		"name": {
			doc:      "The task's name.",
			pattern:  "^[A-Za-z][A-Za-z0-9_-]{0,31}$",
			hint:     "letters, digits, - and _, at most 32, a letter first",
			required: true,
		},
		"part": {doc: "The part in whose environment the command runs. Absent: the stack's environment."},
		"command": {
			doc:      "What to run, as a shell reads it, in the project's folder.",
			pattern:  anyText,
			hint:     notEmpty,
			required: true,
		},
		"when": {
			doc: "first-start: once for the data of the databases that the task uses; every-start; before-stop; " +
				"by-hand. Absent: by-hand.",
			pattern: "^(" + FirstStart + "|" + EveryStart + "|" + BeforeStop + "|" + ByHand + ")$",
			hint:    "first-start, every-start, before-stop or by-hand",
		},
		"after":  {doc: "Tasks that run before this one. Absent: the order of the file."},
		"folder": {doc: "Where the command runs, relative to the project.", pattern: anyText, hint: notEmpty},
		"timeout": {
			doc:   "How long the task may take, such as 90s or 5m. Absent: 10m.",
			check: "duration",
		},
		"env": {doc: "Variables for this task, in addition to those of its part."},
		"if_changed": {
			doc:   "Files of the project, with * and ? as wildcards: the task runs again when they change.",
			items: anyText,
			hint:  notEmpty,
		},
	},
	reflect.TypeFor[SiteConfig](): {
		"name": {
			doc:     "The site's name; it is served as NAME.localhost (the ending may be written, too).",
			pattern: "^" + hostName + "$",
			hint:    hostHint,
		},
		"each": {
			doc: "Instead of a name: folders of the project, such as crew/*. Each becomes a site with the " +
				"folder's name as soon as it exists.",
			pattern: `^([^*?\[\]\\]+/)?[^/\[\]\\]*[*?][^/\[\]\\]*$`,
			hint:    "folders of one folder, with * or ? in their names: crew/*",
		},
		"aliases": {
			doc:   "Further names of the site, served as NAME.localhost; *.tides is every name below tides.",
			items: `^(\*\.)?` + hostName + "$",
			hint:  hostHint,
		},
		"root": {
			doc: "The document root, relative to the project (with each: to the folder). Absent: public, web, " +
				"htdocs or the project itself, the first with an index.",
			pattern: anyText,
			hint:    notEmpty,
		},
		"app": {
			doc: "The part that runs the site: a runtime, or a part with a server of its own. Absent: files only.",
		},
		"server": {
			doc: "The part that serves the site. Absent: the only web server of the stack, or an added dravit-web.",
		},
		"include": {
			doc: "A file of the project with directives for the web server, for this site. The server " +
				"tests it before using it.",
			pattern: anyText,
			hint:    notEmpty,
		},
		"suffix": {
			doc: "What the site's names end with. Absent: localhost, which needs no set-up; test needs the hosts " +
				"file or Dravit's resolver.",
			pattern: "^" + hostName + "$",
			hint:    hostHint,
			check:   "suffix",
		},
		"listen": {
			doc: "network: other machines can reach the site, on its own port, once you have agreed on this " +
				"machine. Absent: loopback only.",
			pattern: "^(loopback|network)$",
			hint:    "loopback or network",
		},
		"expect": {doc: "What a check asks the site, and what has to come back."},
	},
	reflect.TypeFor[Expect](): {
		"path": {
			doc:     "The path to ask for. Absent: /.",
			pattern: "^/",
			hint:    "it begins with /",
		},
		"status": {
			doc:     "The expected status; absent: any below 400.",
			minimum: 100,
			maximum: 599,
		},
		"text": {doc: "A text that the answer must contain."},
		"also": {
			doc:   "Further paths of the site, which must answer with a status below 400.",
			items: "^/",
			hint:  "each begins with /",
		},
	},
	reflect.TypeFor[Require](): {
		"version": {
			doc:   "A version prefix or comparisons. Absent: any version.",
			check: "version",
		},
		"ask": {
			doc: "The arguments with which the program prints its version: one of --version, -version, -V, -v, " +
				"version. Absent: known for many programs, else --version. Others go into the settings of a machine.",
			check: "ask",
		},
		"pattern": {
			doc:   "A regular expression (RE2) whose first group is the version. Absent: the first number with a dot.",
			check: "expression",
		},
	},
}
