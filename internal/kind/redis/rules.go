package redis

import "dravit/internal/setting"

// rules are for settings that move data, sockets, logs and passwords, or open the server to the network (redis.io,
// "Redis configuration file example").
func rules() map[string]setting.Rule {
	rules := map[string]setting.Rule{"bind": setting.Opens, "protected_mode": setting.Opens}
	for _, name := range []string{
		"dir", "port", "tls_port", "unixsocket", "unixsocketperm", "pidfile", "logfile", "dbfilename",
		"appenddirname", "appendfilename", "include", "aclfile", "user", "requirepass", "daemonize",
		"supervised",
	} {
		rules[name] = setting.Own
	}
	return rules
}
