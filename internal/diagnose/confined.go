package diagnose

import (
	"cmp"
	"slices"

	"dravit/internal/about"
	"dravit/internal/cause"
)

// denials are causes that a program names when it was denied access to a file.
var denials = []cause.ID{cause.DataUnreadable, cause.FolderUnreadable, cause.FileUnreadable, cause.FolderUnwritable}

// confined corrects the causes of a part whose program is confined: if the modes of the files let it in, changing them
// does not help. It leaves them alone if the machine's own facts show that modes or owners are wrong.
func (d *doctor) confined(p PartFacts) {
	subject, c := about.Part(p.Spec.Name), p.Confined
	if c.Module == "" || slices.ContainsFunc(d.of(subject), func(x Cause) bool {
		return x.Cause == cause.DataOwner || x.Cause == cause.DataMode
	}) {
		return
	}
	remedy := "sudo ausearch -m avc -ts recent shows what was denied; sudo restorecon -Rv FOLDER gives a folder the " +
		"label of its place"
	evidence := "SELinux is enforcing"
	if c.Profile != "" {
		evidence += ", and the program runs as " + c.Profile
	}
	if c.Module == "AppArmor" {
		remedy = "allow it in " + cmp.Or(c.File, "the profile's file in /etc/apparmor.d") + ", or sudo aa-complain " +
			c.Profile + "; sudo journalctl -k -g apparmor shows what was denied"
		evidence = "AppArmor's profile " + c.Profile + " confines the program"
	}
	for i := range d.all {
		x := &d.all[i]
		if x.Subject == subject && slices.Contains(denials, x.Cause) {
			x.What += "; the file's mode may allow it, and " + c.Module + " deny it"
			x.Remedy, x.Fix = remedy, nil
			x.Evidence = append(x.Evidence, evidence)
		}
	}
}
