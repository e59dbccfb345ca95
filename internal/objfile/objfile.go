// Package objfile reads compiled files (ELF and Mach-O) without loading them: their architectures, the symbols that
// they define and need, and texts in them. The files may be of unknown origin: a broken file gives an error.
package objfile

import (
	"bytes"
	"debug/elf"
	"debug/macho"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"slices"
	"strings"
	"syscall"
)

// MaxSize is the size of the largest file that is read, in bytes.
const MaxSize = 64 << 20

// ErrOther says that a file is neither ELF nor Mach-O.
var ErrOther = errors.New("it is no compiled file")

// File is what a compiled file says about itself.
type File struct {
	Arch    []string // in Go's names; several in a universal file
	Defined []string // symbols that it defines for others
	Wanted  []string // symbols that it needs, sorted
	data    []byte
}

// Open reads a file of at most MaxSize bytes.
func Open(name string) (File, error) {
	f, err := os.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0) // do not wait for a pipe
	if err != nil {
		return File{}, err
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return File{}, errors.Join(err, ErrOther)
	}
	data, err := io.ReadAll(io.LimitReader(f, MaxSize+1))
	if err != nil {
		return File{}, err
	}
	if len(data) > MaxSize {
		return File{}, fmt.Errorf("it is larger than %d MB", MaxSize>>20)
	}
	return Read(data)
}

// Read reads a file's content.
func Read(data []byte) (file File, err error) {
	defer func() { // the standard library's readers may panic on hostile files
		if r := recover(); r != nil {
			err = fmt.Errorf("it is broken: %v", r)
		}
	}()
	file.data = data
	switch {
	case bytes.HasPrefix(data, []byte(elf.ELFMAG)):
		err = file.elf(data)
	case len(data) >= 4 && slices.Contains([]string{"\xcf\xfa\xed\xfe", "\xce\xfa\xed\xfe", "\xfe\xed\xfa\xce",
		"\xfe\xed\xfa\xcf"}, string(data[:4])):
		err = file.macho(data)
	case bytes.HasPrefix(data, []byte("\xca\xfe\xba\xbe")):
		err = file.fat(data)
	default:
		return file, ErrOther
	}
	slices.Sort(file.Defined)
	slices.Sort(file.Wanted)
	file.Defined, file.Wanted = slices.Compact(file.Defined), slices.Compact(file.Wanted)
	return file, err
}

var elfArch = map[elf.Machine]string{
	elf.EM_X86_64:  "amd64",
	elf.EM_AARCH64: "arm64",
	elf.EM_386:     "386",
	elf.EM_ARM:     "arm",
	elf.EM_PPC64:   "ppc64le",
	elf.EM_S390:    "s390x",
	elf.EM_RISCV:   "riscv64",
}

func (f *File) elf(data []byte) error {
	x, err := elf.NewFile(bytes.NewReader(data))
	if err != nil {
		return fmt.Errorf("it is broken: %w", err)
	}
	defer x.Close()
	f.Arch = []string{name(elfArch[x.Machine], x.Machine.String())}
	symbols, err := x.DynamicSymbols()
	if errors.Is(err, elf.ErrNoSymbols) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("its symbols cannot be read: %w", err)
	}
	for _, s := range symbols {
		switch {
		case s.Name == "":
		case s.Section != elf.SHN_UNDEF:
			f.Defined = append(f.Defined, s.Name)
		case elf.ST_BIND(s.Info) != elf.STB_WEAK:
			f.Wanted = append(f.Wanted, s.Name)
		}
	}
	return nil
}

var machoArch = map[macho.Cpu]string{
	macho.CpuAmd64: "amd64",
	macho.CpuArm64: "arm64",
	macho.Cpu386:   "386",
	macho.CpuArm:   "arm",
}

func (f *File) macho(data []byte) error {
	x, err := macho.NewFile(bytes.NewReader(data))
	if err != nil {
		return fmt.Errorf("it is broken: %w", err)
	}
	defer x.Close()
	f.addMacho(x)
	return nil
}

func (f *File) fat(data []byte) error {
	x, err := macho.NewFatFile(bytes.NewReader(data))
	if err != nil {
		return fmt.Errorf("it is broken: %w", err)
	}
	defer x.Close()
	for _, a := range x.Arches {
		f.addMacho(a.File)
	}
	return nil
}

// addMacho adds the symbols of one architecture. Mach-O puts an underscore before C names.
func (f *File) addMacho(x *macho.File) {
	f.Arch = append(f.Arch, name(machoArch[x.Cpu], x.Cpu.String()))
	if x.Symtab == nil {
		return
	}
	const undefined, weak, external, sort = 0, 0x40, 0x01, 0x0e // mach-o/nlist.h: N_UNDF, N_WEAK_REF, N_EXT, N_TYPE
	for _, s := range x.Symtab.Syms {
		text := strings.TrimPrefix(s.Name, "_")
		switch {
		case text == "" || s.Type&external == 0:
		case s.Type&sort != undefined:
			f.Defined = append(f.Defined, text)
		case s.Desc&weak == 0:
			f.Wanted = append(f.Wanted, text)
		}
	}
}

func name(known, other string) string {
	if known == "" {
		return strings.ToLower(other)
	}
	return known
}

// Find returns every text in the file that matches, each once, in the order of the file.
func (f File) Find(re *regexp.Regexp) []string {
	var found []string
	for _, m := range re.FindAll(f.data, -1) {
		if text := string(m); !slices.Contains(found, text) {
			found = append(found, text)
		}
	}
	return found
}

// Wants reports whether the file needs a symbol of the sorted list.
func (f File) Wants(defined []string) bool {
	return slices.ContainsFunc(defined, func(s string) bool { _, ok := slices.BinarySearch(f.Wanted, s); return ok })
}
