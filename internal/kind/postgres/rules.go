package postgres

import "dravit/internal/setting"

// rules are for settings that move data, sockets, logs and passwords, or open the server to the network
// (postgresql.org, "Server Configuration").
func rules() map[string]setting.Rule {
	rules := map[string]setting.Rule{"listen_addresses": setting.Opens}
	for _, name := range []string{
		"data_directory", "config_file", "hba_file", "ident_file", "external_pid_file", "port",
		"unix_socket_directories", "unix_socket_permissions", "unix_socket_group", "log_directory",
		"log_filename", "logging_collector", "log_destination", "include", "include_dir", "include_if_exists",
	} {
		rules[name] = setting.Own
	}
	return rules
}
