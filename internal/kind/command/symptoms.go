package command

import (
	"slices"

	"dravit/internal/cause"
	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/supervise"
)

const readVariables = "read host and port from the environment (DB_HOST, DB_PORT, REDIS_URL): dravit run -- env"

// refused matches what clients in Python and Ruby write when no process listens: those of PostgreSQL (libpq), MySQL and
// Redis, and plain sockets.
const refused = `connection to server (?:at|` +
	`on socket) ("[^"]+"(?:(?: \([^)]*\))?, port \d+)?) failed: (?:Connection refused|No such file)|` +
	`Can't connect to (?:local )?(?:MySQL )?server (?:on|through socket) ('[^']+')|` +
	`(?:Error 111 connecting to |Connection refused - connect\(2\) for )"?([\w.:]+(?:" port \d+)?)`

// taken matches an error for a port that is in use, in the words of runtimes and of C libraries.
const taken = `(?:EADDRINUSE|[Aa]ddress already in use|` + kind.AddressInUse + `)`

// Symptoms match what servers of a project's own write when something is wrong, in any language.
func Symptoms() []kind.Symptom {
	return slices.Concat(Expired(), Certificates(), []kind.Symptom{
		kind.When(cause.PortFixed, pattern.New(taken+
			`[^\n]*?((?:\d{1,3}(?:\.\d{1,3}){3}|::1?|\*|localhost|\[::\]):\d+|port:? \d+)`),
			"the server wants to listen on $1, which another program uses",
			"make it listen on the port in PORT: command = \"... --port {port}\""),
		kind.When(cause.PortFixed, pattern.New(taken), "the server wants to listen on "+
			"a port that another program uses", "make it listen on the port in PORT: command = \"... --port {port}\""),
		kind.When(cause.EndsAtOnce, pattern.New(supervise.Background),
			"the command goes into the background, where Dravit cannot watch it",
			"make it stay in the foreground: many programs have an option for that"),
		kind.When(cause.CommandMissing,
			pattern.New(`(?m)^(?:/bin/)?sh: (?:\d+: |line \d+: )?(?:exec: )?([^:\n]+): (?:command )?not found$`),
			"the command $1 does not exist", "install it, or correct the part's command in dravit.toml"),
		kind.When(cause.CommandForbidden,
			pattern.New(`(?m)^(?:/bin/)?sh: (?:\d+: |line \d+: )?(?:exec: )?([^:\n]+): Permission denied$`),
			"the command $1 is not executable", "chmod u+x it"),
		kind.When(cause.TooManyOpenFiles, pattern.New(`(EMFILE|`+kind.TooManyFiles+`)`), "the process has as many "+
			"files open as it may", kind.MoreFiles),
		kind.When(cause.WatchLimit, pattern.New(`(ENOSPC: System limit for number of file watchers reached|`+
			`inotify[^\n]*No space left on device|inotify watch limit reached)`),
			"the disk is not full: your programs watch as many files as the system allows",
			"sudo sysctl fs.inotify.max_user_watches=524288"),
	}, Common(), []kind.Symptom{
		kind.When(cause.TablesMissing,
			pattern.New(`(Table '[^']+' doesn't exist|relation "[^"]+" does not exist|no such table: [\w.]+)`),
			"the database exists, but its tables do not: $1",
			"run the application's command that creates them: dravit run -- COMMAND"),
		kind.When(cause.DatabaseMissing, pattern.New(`(Unknown database '[^']+'|database "[^"]+" does not exist|`+
			`Access denied for user '[^']*'@'[^']*' to database '[^']+')`),
			"the application asks for a database that does not exist: $1",
			"use the name in DB_DATABASE or DATABASE_URL, or give the part database = \"NAME\""),
		kind.When(cause.WrongPassword, pattern.New(`(Access denied for user '[^']*'|`+
			`password authentication failed for user "[^"]*"|role "[^"]*" does not exist|`+
			`NOAUTH Authentication required|`+
			`WRONGPASS|no password supplied|invalid username-password pair|`+
			`ERR AUTH [^\n]*called without any password[^\n]*)`),
			"a database or cache rejects the application's user or password: $1",
			"read them from the environment (DATABASE_URL, REDIS_URL): dravit run -- env"),
		kind.When(cause.StoreElsewhere, pattern.New(refused),
			"the application looks for a database or cache at $1$2$3, where there is none", readVariables),
		kind.When(cause.StoreElsewhere, pattern.New(`(?:ECONNREFUSED|ETIMEDOUT|EHOSTUNREACH) ([\d.:\[\]]+)`),
			"the application looks for a database or cache at $1, where there is none", readVariables),
		kind.When(cause.StoreElsewhere, pattern.New(`(?:ENOTFOUND|EAI_AGAIN) ([\w-]+)\b`),
			"the application looks for a server named $1, and no machine has that name", readVariables),
		kind.When(cause.StoreElsewhere, pattern.New(`(?:[Cc]ould not translate host name "([^"]+)"|`+
			`Unknown (?:MySQL |MariaDB )?server host '([^']+)'|Error -?\d connecting to ([\w.:-]+)\. [^\n]*)`),
			"the application looks for a database or cache at $1$2$3, where there is none", readVariables),
	})
}

// Expired match certificates that have expired, before what says that they are not trusted.
func Expired() []kind.Symptom {
	for _, s := range network() {
		if s.Cause == cause.CertificateExpired {
			return []kind.Symptom{s}
		}
	}
	return nil
}

// Certificates match what HTTPS clients write about a certificate: OpenSSL, curl, Go and Node.js.
func Certificates() []kind.Symptom {
	return []kind.Symptom{
		kind.When(cause.CertificateOtherName, pattern.New(`(Peer certificate (?:CN|`+
			`subjectAltName)[^\n<]{0,200} did not match expected (?:CN|name)[^\n<']{0,4}[^\s<]*|`+
			`Unable to locate peer certificate CN|no alternative certificate subject name matches target[^\n<]*|`+
			`Hostname/IP does not match certificate's altnames[^\n<]*|`+
			`Hostname mismatch, certificate is not valid for '[^']*'|`+
			`IP address mismatch, certificate is not valid for '[^']*'|`+
			`hostname "[^"]*" does not match the server certificate|x509: certificate is valid for [^\n<]*)`),
			"the application asks over HTTPS for a name that is not in the certificate: $1",
			"ask for a site by its own name, which dravit names shows"),
		kind.When(cause.CertificateUntrusted,
			pattern.New(`(certificate verify failed(?: \([^)\n]*\))?|CERTIFICATE_VERIFY_FAILED|`+
				`SSL certificate problem: [^\n<]*|unable to (?:verify the first|get local issuer) certificate|`+
				`self[- ]signed certificate in certificate chain|x509: certificate signed by unknown authority)`),
			"the application does not trust the certificate of a site: $1",
			"if the site is Dravit's: dravit names certificate on. Node.js ignores the system's store: set "+
				"NODE_EXTRA_CA_CERTS to the authority's file in dravit.local.toml, dravit names shows it"),
	}
}
