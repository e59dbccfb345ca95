package command

import (
	"dravit/internal/cause"
	"dravit/internal/kind"
	"dravit/internal/pattern"
)

// Common match what applications in any language write, PHP's pages among them, in the words of servers, C libraries
// and well-known clients.
func Common() []kind.Symptom {
	return append(append(stores(), machine()...), network()...)
}

// stores match what databases and caches answer.
func stores() []kind.Symptom {
	return []kind.Symptom{
		kind.When(cause.TablesOutdated, pattern.New(`(Unknown column '[^']+' in '[^']+'|`+
			`column "?[\w.]+"?(?: of relation "[^"]+")? does not exist|no such column: [\w."]+|`+
			`table "?\w+"? has no column named "?\w+"?)`),
			"the database's tables are older than the code: $1",
			"run the application's command that changes its tables: dravit run -- COMMAND"),
		kind.When(cause.ConnectionsUsedUp, pattern.New(`(Too many connections|sorry, too many clients already|`+
			`remaining connection slots are reserved[^\n]*|too many connections for role "[^"]*"|`+
			`max number of clients reached|User \S+ already has more than 'max_user_connections'[^\n]*)`),
			"the application gets no connection, as all are taken: $1",
			"close connections that are not used; dravit diagnose names who has them while it happens"),
		kind.When(cause.DatabaseLocked, pattern.New(`(database is locked|database table is locked|SQLITE_BUSY|`+
			`Lock wait timeout exceeded|deadlock detected|Deadlock found when trying to get lock)`),
			"two programs wait for each other's rows: $1",
			"end the transaction of the other one sooner; ask again where the database says that it gave up"),
		kind.When(cause.PacketLimit, pattern.New(`(Got a packet bigger than 'max_allowed_packet' bytes|`+
			`packet for query is too large[^\n]*)`), "a statement is longer than the database takes: $1",
			"raise max_allowed_packet in the settings of the database's part"),
	}
}

// machine match what the machine refuses: files, space, memory, time.
func machine() []kind.Symptom {
	return []kind.Symptom{
		kind.When(cause.DiskFull,
			pattern.New(`(ENOSPC: no space left on device|(?:OSError|IOError): \[Errno 28\][^\n]*|`+
				`Errno::ENOSPC|write of \d+ bytes failed with errno=28[^\n]*)`),
			"the application cannot write, as the disk is full: $1", "free some space on that disk"),
		kind.When(cause.ReadOnly, pattern.New(`(EROFS: read-only file system[^\n]*|\[Errno 30\][^\n]*|`+
			`Errno::EROFS[^\n]*)`),
			"the application writes to a file system that is read-only: $1",
			"have it write to a folder of the project, or mount that file system for writing"),
		kind.When(cause.FolderUnwritable, pattern.New(`(?:EACCES: permission denied, (?:open|mkdir|rename|unlink|`+
			`copyfile|`+
			`rmdir|scandir) |PermissionError: \[Errno 13\] Permission denied: |Permission denied @ \w+ - )'?`+
			`(/[^'\n,]+?)'?:?(?:$|['\n,]| ->)`), "the application may not use $1",
			"give your account access: chmod u+rwX '$1'"),
		kind.When(cause.FileMissing, pattern.New(`(?:ENOENT: no such file or directory, \w+ |`+
			`FileNotFoundError: \[Errno 2\] No such file or directory: |No such file or directory @ \w+ - |`+
			`java\.nio\.file\.NoSuchFileException: |java\.io\.FileNotFoundException: )'?(/[^'\n,()]+?)'?:?`+
			`(?:$|['\n,(]| ->)`), "the application uses $1, which does not exist",
			"make that file, or correct the path"),
		kind.When(cause.UploadLimit, pattern.New(`(PayloadTooLargeError[^\n]*|request entity too large|`+
			`RequestDataTooBig[^\n]*|Request body exceeded settings\.\w+|`+
			`RequestEntityTooLarge[^\n]*|413 Request Entity Too Large|`+
			`MulterError: File too large|`+
			`client intended to send too large body[^\n]*)`), "an upload is larger than the application accepts: $1",
			"raise the limit in the application's own code: the web server passes what it gets"),
		kind.When(cause.TimeLimit, pattern.New(`(WORKER TIMEOUT[^\n]*|worker timeout[^\n]*)`),
			"the application's own server ended a worker that took too long: $1",
			"raise its time limit in the part's command (--timeout), or make the page quicker"),
		kind.When(cause.MemoryLimit, pattern.New(`(JavaScript heap out of memory|(?m:^MemoryError\b[^\n]*)|`+
			`Cannot allocate memory|NoMemoryError|java\.lang\.OutOfMemoryError[^\n]*)`), "the application's memory is "+
			"used up: $1", "give it more, or make it use less: dravit status shows what each part uses"),
	}
}

// ReadMail is the remedy for an application that sends its mail elsewhere than to the stack's own catcher.
const ReadMail = "where it sends mail, read MAIL_HOST and MAIL_PORT from the environment: they are of the stack's " +
	"own catcher"

// network match what comes of servers that are asked by name: other services, mail, the back end of a front end.
func network() []kind.Symptom {
	return []kind.Symptom{
		kind.When(cause.VariableMissing, pattern.New(`(?:File "[^"\n]*os\.py"|`+
			`<frozen os>)[^\n]*\n(?:[^\n]*\n){0,3}?KeyError: `+
			`'([A-Za-z_]\w*)'`), "the application wants the variable $1, and it is not set",
			`add it to dravit.toml, then dravit start: [env] and $1 = "VALUE"`),
		kind.When(cause.VariableMissing, pattern.New(`(?:KeyError\)?:? (?:-? ?)?key not found: "?|`+
			`[Mm]issing (?:required )?`+
			`(?:environment|env\.?) ?(?:variables?|vars?)?:? ?"?'?|[Ee]nvironment variable "?'?)([A-Z][A-Z0-9_]{2,})`+
			`(?:"?'? (?:is |was )?(?:not set|not found|missing|required|undefined)|"?'?)`),
			"the application wants the variable $1, and it is not set",
			`add it to dravit.toml, then dravit start: [env] and $1 = "VALUE"`),
		kind.When(cause.VariableMissing, pattern.New(`Error: [^\n]{0,60}?\b([A-Z][A-Z0-9]*_[A-Z0-9_]+) `+
			`(?:(?:is|was) (?:not (?:set|defined|configured)|missing|required|undefined)|`+
			`must be (?:set|defined|configured))\b`),
			"the application wants the variable $1, and it is not set",
			`add it to dravit.toml, then dravit start: [env] and $1 = "VALUE"`),
		kind.When(cause.ProxyElsewhere, pattern.New(`(?:http proxy error|[Pp]roxy error|ws proxy error|`+
			`Could not proxy request|`+
			`Error occurred while (?:trying to )?prox(?:y|ying))[^\n]*(?:\n[^\n]*){0,3}?`+
			`((?:ECONNREFUSED|ENOTFOUND|ETIMEDOUT)[^\n]*)`),
			"the front end's own proxy passes requests to a server that does not answer: $1",
			"have it pass them to the address of the stack's own back end, which is in the environment"),
		kind.When(cause.HostRefused,
			pattern.New(`(Invalid HTTP_HOST header: '[^']+'|Blocked request\. This host[^\n]*|`+
				`Blocked hosts?: [^\n<]+|Invalid Host header)`), "the application refuses the site's name: $1",
			"add the name to the hosts that it allows (ALLOWED_HOSTS, server.allowedHosts, config.hosts)"),
		kind.When(cause.MailRefused, pattern.New(`(SMTPAuthenticationError[^\n]*|SMTPRecipientsRefused[^\n]*|`+
			`SMTPSenderRefused[^\n]*|SMTPConnectError[^\n]*|SMTPServerDisconnected[^\n]*|Net::SMTP\w+[^\n]*|`+
			`mail\(\): Failed to connect to mailserver[^\n<]*|SMTP (?:Error|connect\(\) failed)[^\n<]*|`+
			`sh: \d*:? ?/usr/sbin/sendmail: not found|Could not instantiate mail function|`+
			`Connection could not be established with host [^\n<]*|`+
			`(?:ECONNREFUSED|Connection refused)[^\n]{0,40}[: ](?:25|465|587|1025|2525)\b)`),
			"mail is not accepted: $1", ReadMail),
		kind.When(cause.CertificateExpired, pattern.New(`(certificate has expired|CERT_HAS_EXPIRED|`+
			`x509: certificate has expired[^\n]*)`), "a service that the application asks over HTTPS has a "+
			"certificate that has expired: $1", "ask whoever runs it; set the clock if that is wrong"),
		kind.When(cause.ForeignService, pattern.New(`((?:getaddrinfo )?(?:ENOTFOUND|EAI_AGAIN) [\w-]+(?:\.[\w-]+)+|`+
			`Could not resolve host: [\w-]+(?:\.[\w-]+)+|[Ff]ailed to resolve '[\w-]+(?:\.[\w-]+)+'[^\n]*|`+
			`getaddrinfo(?: for| failed for)? [\w.-]+ failed[^\n]*|`+
			`Failed to open TCP connection to [\w-]+(?:\.[\w-]+)+[^\n]*|`+
			`HTTPS?ConnectionPool\(host='[^\n]*|httpx\.(?:Connect|Read)\w+: [^\n]*|`+
			`Cannot connect to host [\w.-]+:\d+[^\n]*|urllib\.error\.URLError: <urlopen error [^\n]*|`+
			`lookup [\w-]+(?:\.[\w-]+)+[^\n]*: no such host|UnknownHostException: [\w-]+(?:\.[\w-]+)+)`),
			"a service that is not of this stack does not answer: $1",
			"correct its address, or ask whoever runs it"),
	}
}
