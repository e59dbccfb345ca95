package mariadb

import "dravit/internal/setting"

// rules are for settings that move data, sockets, logs and passwords, or open the server to the network (mariadb.com,
// "Server System Variables").
func rules() map[string]setting.Rule {
	rules := map[string]setting.Rule{"bind_address": setting.Opens}
	for _, name := range []string{
		"datadir", "socket", "port", "extra_port", "pid_file", "tmpdir", "basedir", "user", "log_error",
		"general_log_file", "slow_query_log_file", "log_basename", "innodb_data_home_dir",
		"innodb_log_group_home_dir", "innodb_undo_directory", "aria_log_dir_path", "skip_grant_tables",
		"skip_networking", "defaults_file", "defaults_extra_file", "init_file",
	} {
		rules[name] = setting.Own
	}
	return rules
}
