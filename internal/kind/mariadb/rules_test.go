package mariadb

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"dravit/internal/setting"
)

// Whatever the server would understand as a dangerous option, a stack file does not decide it.
func TestRulesAllowOnlyWhatIsKnown(t *testing.T) {
	for _, name := range []string{
		"loose_skip_grant_tables", "loose-skip-grant-tables", "skip_grant", "skip-grant-tables", "SKIP_GRANT_TABLES",
		"enable_skip_grant_tables", "grant_tables", "disable_grant_tables", "loose_bind_address", "bind_addr", "bind-a",
		"maximum_port", "loose_loose_extra_port", "plugin_load", "plugin_load_add", "init_fil", "datad",
		"skip_networking",
		"unix_socket", "skip_unix_socket", "wsrep_provider", "log_bin", "secure_file_priv", "ssl_ca",
		"character_sets_dir",
		"general_log_fil", "slow_query_log_f", "innodb_undo_dir", "debug", "chroot", "loose_max_connections",
		"nonsense",
	} {
		assert.Contains(t, []setting.Rule{setting.Own, setting.Unknown}, setting.RuleOf(rules(), name), name)
	}
	assert.Equal(t, setting.Opens, setting.RuleOf(rules(), "Bind-Address"))
	for name := range small {
		if name != "innodb-temp-data-file-path" { // it names a file
			assert.Equal(t, setting.Free, setting.RuleOf(rules(), name), name)
		}
	}
	for _, name := range []string{"max_connections", "Sql-Mode", "innodb_buffer_pool_size", "max_allowed_packet"} {
		assert.Equal(t, setting.Free, setting.RuleOf(rules(), name), name)
	}
}
