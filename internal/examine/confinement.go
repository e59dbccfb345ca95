package examine

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"dravit/internal/diagnose"
	"dravit/internal/pattern"
)

// Confinement returns the rule of a security module that limits a program. pid is a process of it, or 0 if none runs;
// then the rule is searched in the system's files. root is the root of the file system: "" for the machine's own.
func Confinement(root string, pid int, program string) diagnose.Confinement {
	if pid != 0 {
		for _, name := range []string{"apparmor/current", "current"} {
			text, err := os.ReadFile(fmt.Sprintf("%s/proc/%d/attr/%s", root, pid, name))
			if err != nil {
				continue
			}
			return ofProcess(root, strings.TrimRight(string(text), "\x00\n"))
		}
	}
	if says(root+"/sys/module/apparmor/parameters/enabled", "Y") {
		return appArmor(root, program)
	}
	if enforcing(root) {
		return diagnose.Confinement{Module: "SELinux"}
	}
	return diagnose.Confinement{}
}

func enforcing(root string) bool { return says(root+"/sys/fs/selinux/enforce", "1") }

// says reports whether a file of the kernel's begins with a word.
func says(file, word string) bool {
	text, _ := os.ReadFile(file)
	return strings.HasPrefix(string(text), word)
}

// ofProcess reads the attribute of a process: AppArmor's "mysqld (enforce)", SELinux' "system_u:system_r:mysqld_t:s0".
func ofProcess(root, label string) diagnose.Confinement {
	if profile, ok := strings.CutSuffix(label, " (enforce)"); ok {
		return diagnose.Confinement{Module: "AppArmor", Profile: profile}
	}
	if f := strings.Split(label, ":"); len(f) >= 3 && enforcing(root) && !strings.HasPrefix(f[2], "unconfined") {
		return diagnose.Confinement{Module: "SELinux", Profile: f[2]}
	}
	return diagnose.Confinement{}
}

// profileHead matches the first line of a profile (apparmor.d(5)): perhaps a name, the program's path, perhaps flags.
var profileHead = pattern.New(`(?m)^(?:profile[ \t]+)?([^\s#]\S*)(?:[ \t]+(/\S+))?` +
	`(?:[ \t]+flags=\(([^)\n]*)\))?[ \t]*\{[ \t]*$`)

// appArmor searches the profile of a program in the system's profiles.
func appArmor(root, program string) diagnose.Confinement {
	files, _ := filepath.Glob(pattern.Literal(root+"/etc/apparmor.d") + "/*")
	for _, file := range files {
		if _, err := os.Stat(filepath.Join(filepath.Dir(file), "disable", filepath.Base(file))); err == nil {
			continue
		}
		text, err := os.ReadFile(file)
		if err != nil {
			continue // a folder
		}
		for _, m := range profileHead().FindAllStringSubmatch(string(text), -1) {
			name, attached := m[1], m[2]
			if attached == "" {
				attached = name
			}
			lax := strings.Contains(m[3], "complain") || strings.Contains(m[3], "unconfined")
			if attaches(attached, program) && !lax {
				return diagnose.Confinement{Module: "AppArmor", Profile: name, File: strings.TrimPrefix(file, root)}
			}
		}
	}
	return diagnose.Confinement{}
}

// attaches reports whether a path expression of AppArmor's (apparmor.d(5), globbing) stands for a program.
func attaches(expression, program string) bool {
	if !strings.HasPrefix(expression, "/") {
		return false
	}
	text := regexp.QuoteMeta(expression)
	text = strings.NewReplacer(`\*\*`, `.*`, `\*`, `[^/]*`, `\?`, `[^/]`,
		`\{`, `(?:`, `\}`, `)`, `,`, `|`).Replace(text)
	re, err := regexp.Compile("^" + text + "$")
	return err == nil && re.MatchString(program)
}
