package examine

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/diagnose"
)

// tree makes a file system with these files.
func tree(t *testing.T, files map[string]string) string {
	t.Helper()
	root := t.TempDir()
	for path, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Join(root, filepath.Dir(path)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, path), []byte(text), 0o644))
	}
	return root
}

// Ubuntu confines some servers with AppArmor, Fedora with SELinux; Debian's own profile of MariaDB allows everything.
func TestConfinement(t *testing.T) {
	ubuntu := tree(t, map[string]string{
		"sys/module/apparmor/parameters/enabled": "Y\n",
		"etc/apparmor.d/usr.sbin.mariadbd": "# vim:syntax=apparmor\n#include <tunables/global>\n" +
			"/usr/sbin/{mariadbd,mysqld} {\n  #include <abstractions/base>\n  /var/lib/mysql/** rwk,\n}\n",
		"etc/apparmor.d/php-fpm":        "profile php-fpm /usr/sbin/php-fpm* flags=(attach_disconnected) {\n}\n",
		"etc/apparmor.d/redis":          "profile redis /usr/bin/redis-server flags=(complain) {\n}\n",
		"etc/apparmor.d/nginx":          "profile nginx /usr/sbin/nginx {\n}\n",
		"etc/apparmor.d/disable/nginx":  "",
		"proc/7/attr/apparmor/current":  "mysqld (enforce)\n",
		"proc/8/attr/current":           "unconfined\n",
		"proc/9/attr/current":           "redis (complain)\n",
		"etc/apparmor.d/abstractions/x": "/usr/sbin/nginx {\n}\n",
	})
	fedora := tree(t, map[string]string{
		"sys/fs/selinux/enforce": "1",
		"proc/7/attr/current":    "system_u:system_r:mysqld_t:s0\x00",
		"proc/8/attr/current":    "unconfined_u:unconfined_r:unconfined_t:s0-s0:c0.c1023\x00",
	})
	lax := tree(t, map[string]string{
		"sys/fs/selinux/enforce": "0",
		"proc/7/attr/current":    "system_u:system_r:mysqld_t:s0\x00",
	})
	none := diagnose.Confinement{}
	for _, c := range []struct {
		root    string
		pid     int
		program string
		want    diagnose.Confinement
	}{
		{ubuntu, 7, "", diagnose.Confinement{Module: "AppArmor", Profile: "mysqld"}},
		{ubuntu, 8, "/usr/sbin/mariadbd", none},
		{ubuntu, 9, "", none},
		{ubuntu, 0, "/usr/sbin/mariadbd", diagnose.Confinement{Module: "AppArmor",
			Profile: "/usr/sbin/{mariadbd,mysqld}", File: "/etc/apparmor.d/usr.sbin.mariadbd"}},
		{ubuntu, 99, "/usr/sbin/php-fpm8.3", diagnose.Confinement{Module: "AppArmor", Profile: "php-fpm",
			File: "/etc/apparmor.d/php-fpm"}},
		{ubuntu, 0, "/usr/bin/redis-server", none},
		{ubuntu, 0, "/usr/sbin/nginx", none},
		{ubuntu, 0, "/opt/mine/mariadbd", none},
		{fedora, 7, "", diagnose.Confinement{Module: "SELinux", Profile: "mysqld_t"}},
		{fedora, 8, "", none},
		{fedora, 0, "/usr/libexec/mariadbd", diagnose.Confinement{Module: "SELinux"}},
		{lax, 7, "", none},
		{tree(t, nil), 0, "/usr/sbin/nginx", none},
	} {
		assert.Equal(t, c.want, Confinement(c.root, c.pid, c.program), "%d %s", c.pid, c.program)
	}
}
