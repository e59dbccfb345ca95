package project

// FileSystem is a file system that lacks something a project may need.
type FileSystem struct {
	Name      string `json:"name"`
	NoModes   bool   `json:"no_modes,omitempty"`   // files have no owners and modes
	NoNotices bool   `json:"no_notices,omitempty"` // no notice tells of changes that another machine made
}

// lacking are such file systems.
var lacking = []FileSystem{
	{Name: "vfat", NoModes: true},
	{Name: "exfat", NoModes: true},
	{Name: "ntfs", NoModes: true},
	{Name: "9p", NoModes: true, NoNotices: true},
	{Name: "smb", NoModes: true, NoNotices: true},
	{Name: "vboxsf", NoModes: true, NoNotices: true},
	{Name: "nfs", NoNotices: true},
}

// named returns the file system of that name, or nil if it lacks nothing.
func named(name string) *FileSystem {
	for _, f := range lacking {
		if f.Name == name {
			return &f
		}
	}
	return nil
}
