package ledger

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
)

// Mark identifies a folder after it was moved or renamed. The zero Mark identifies none.
type Mark struct {
	// Inode is the folder's device, inode number and time of birth, which a rename keeps. The number alone may be
	// reused.
	Inode string `json:"inode,omitempty"`
	// File is the digest of the stack file, for a folder that was moved to another file system.
	File string `json:"file,omitempty"`
}

// MarkOf returns the mark of a folder with this stack file. It leaves out what cannot be read.
func MarkOf(dir, file string) Mark {
	m := Mark{Inode: inodeOf(dir)}
	if text, err := os.ReadFile(file); err == nil {
		sum := sha256.Sum256(text)
		m.File = hex.EncodeToString(sum[:])
	}
	return m
}

// MovedTo returns the stack whose folder was moved to dir, which has this mark, or "". certain is false if only the
// stack file says so and the old folder is gone.
func (l *Ledger) MovedTo(dir string, mark Mark) (id string, certain bool) {
	candidates := 0
	for other, s := range l.Stacks {
		if s.Dir == dir || s.Dir == "" {
			continue
		}
		if s.Mark.Inode != "" && s.Mark.Inode == mark.Inode && inodeOf(s.Dir) != mark.Inode {
			return other, true
		}
		if _, err := os.Stat(s.Dir); os.IsNotExist(err) && s.Mark.File != "" && s.Mark.File == mark.File {
			id = other
			candidates++
		}
	}
	if candidates != 1 {
		return "", false
	}
	return id, false
}
