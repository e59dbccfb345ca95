package mariadb

import (
	_ "embed"
	"strings"

	"dravit/internal/setting"
)

// free are the settings that a stack file decides.
//
//go:embed settings.txt
var free string

// rules name what is allowed, as the server understands a setting by many names: with loose-, skip-, enable-, disable-
// or maximum- before it, and by any beginning that only one setting has (mariadb.com, "Specifying Options").
func rules() map[string]setting.Rule {
	rules := map[string]setting.Rule{"bind_address": setting.Opens, setting.Others: setting.Unknown}
	for line := range strings.Lines(free) {
		if name := strings.TrimSpace(line); !strings.HasPrefix(name, "#") {
			rules[name] = setting.Free
		}
	}
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
