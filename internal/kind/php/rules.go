package php

import "dravit/internal/setting"

// rules are for settings that say where Dravit keeps sessions and temporary files, and which extensions it loads.
func rules() map[string]setting.Rule {
	rules := map[string]setting.Rule{}
	for _, name := range []string{
		"extension_dir", "extension", "zend_extension", "session.save_path", "upload_tmp_dir", "sys_temp_dir",
	} {
		rules[name] = setting.Own
	}
	return rules
}
