package objfile

import (
	"debug/elf"
	"debug/macho"
	"encoding/binary"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var build = regexp.MustCompile(`API[0-9]{8},N?TS`)

// machO makes a small Mach-O bundle (mach-o/loader.h, mach-o/nlist.h): a header, a symbol table and a text.
func machO(cpu macho.Cpu, text string) []byte {
	names := "\x00_get_module\x00_kelp_hash\x00_weak_one\x00_local\x00"
	at := func(name string) uint32 { return uint32(regexp.MustCompile(name).FindStringIndex(names)[0]) }
	type nlist struct {
		Name  uint32
		Type  uint8
		Sect  uint8
		Desc  uint16
		Value uint64
	}
	symbols := []nlist{
		{at("_get_module"), 0x0f, 1, 0, 8},
		{at("_kelp_hash"), 0x01, 0, 0, 0},
		{at("_weak_one"), 0x01, 0, 0x40, 0},
		{at("_local"), 0x0e, 1, 0, 8},
	}
	const header, command = 32, 24
	symoff := uint32(header + command)
	stroff := symoff + uint32(len(symbols)*16)
	var b []byte
	b, _ = binary.Append(b, binary.LittleEndian,
		[]uint32{macho.Magic64, uint32(cpu), 3, uint32(macho.TypeBundle), 1, command, 0, 0})
	b, _ = binary.Append(b, binary.LittleEndian,
		[]uint32{uint32(macho.LoadCmdSymtab), command, symoff, uint32(len(symbols)), stroff, uint32(len(names))})
	b, _ = binary.Append(b, binary.LittleEndian, symbols)
	return append(append(b, names...), text...)
}

// fat puts two architectures into one file (mach-o/fat.h).
func fat(slices ...[]byte) []byte {
	cpus := []macho.Cpu{macho.CpuAmd64, macho.CpuArm64}
	out, _ := binary.Append(nil, binary.BigEndian, []uint32{0xcafebabe, uint32(len(slices))})
	at := uint32(4096)
	for i, s := range slices {
		out, _ = binary.Append(out, binary.BigEndian, []uint32{uint32(cpus[i]), 3, at, uint32(len(s)), 12})
		at += 4096
	}
	for i, s := range slices {
		out = append(out, make([]byte, 4096*(i+1)-len(out))...)
		out = append(out, s...)
	}
	return out
}

func TestMachO(t *testing.T) {
	f, err := Read(machO(macho.CpuArm64, "xx API20220829,NTS\x00 API20220829,NTS"))
	require.NoError(t, err)
	assert.Equal(t, []string{"arm64"}, f.Arch)
	assert.Equal(t, []string{"get_module"}, f.Defined, "without the underscore, and without what is local")
	assert.Equal(t, []string{"kelp_hash"}, f.Wanted, "a weak symbol may be missing")
	assert.Equal(t, []string{"API20220829,NTS"}, f.Find(build), "each text once")
	assert.True(t, f.Wants([]string{"a", "kelp_hash"}))
	assert.False(t, f.Wants([]string{"get_module"}))

	f, err = Read(fat(machO(macho.CpuAmd64, ""), machO(macho.CpuArm64, "API20240924,TS")))
	require.NoError(t, err)
	assert.Equal(t, []string{"amd64", "arm64"}, f.Arch)
	assert.Equal(t, []string{"get_module"}, f.Defined)
	assert.Equal(t, []string{"API20240924,TS"}, f.Find(build))
}

// The extension files of this machine's own PHP, against what debug/elf says in full.
func TestRealModules(t *testing.T) {
	if runtime.GOOS != "linux" {
		return
	}
	files, err := filepath.Glob("/usr/lib/php/20*/*.so")
	require.NoError(t, err)
	require.Greater(t, len(files), 20, "PHP's extensions are not here; ./verify installs them")
	for _, name := range files {
		f, err := Open(name)
		require.NoError(t, err, name)
		assert.Equal(t, []string{runtime.GOARCH}, f.Arch, name)
		assert.NotEmpty(t, f.Find(build), name)
		x, err := elf.Open(name)
		require.NoError(t, err)
		symbols, err := x.DynamicSymbols()
		require.NoError(t, err)
		x.Close()
		assert.LessOrEqual(t, len(f.Defined)+len(f.Wanted), len(symbols), name)
		assert.Contains(t, f.Wanted, symbolWanted(symbols), name)
	}
}

func symbolWanted(symbols []elf.Symbol) string {
	for _, s := range symbols {
		if s.Section == elf.SHN_UNDEF && s.Name != "" && elf.ST_BIND(s.Info) == elf.STB_GLOBAL {
			return s.Name
		}
	}
	return ""
}

func TestOtherFiles(t *testing.T) {
	for _, text := range []string{"", "#!/bin/sh\necho API20220829,NTS", "\x7fEL"} {
		_, err := Read([]byte(text))
		assert.ErrorIs(t, err, ErrOther, "%q", text)
	}
	for _, text := range []string{"\x7fELF", "\x7fELF\x02\x01\x01 and no more", "\xcf\xfa\xed\xfe",
		"\xca\xfe\xba\xbe\x00\x00\x00\x02"} {
		_, err := Read([]byte(text))
		assert.ErrorContains(t, err, "it is broken", "%q", text)
	}
	big := filepath.Join(t.TempDir(), "big.so")
	require.NoError(t, os.WriteFile(big, nil, 0o600))
	require.NoError(t, os.Truncate(big, MaxSize+1))
	_, err := Open(big)
	assert.ErrorContains(t, err, "larger than 64 MB")
}

// Whatever a file holds, reading it ends, with what it says or with an error.
func FuzzRead(f *testing.F) {
	f.Add(machO(macho.CpuArm64, "API20220829,NTS"))
	f.Add(fat(machO(macho.CpuAmd64, ""), machO(macho.CpuArm64, "")))
	f.Add([]byte("\x7fELF\x02\x01\x01"))
	if text, err := os.ReadFile("/usr/lib/php/20220829/ctype.so"); err == nil {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		file, err := Read(data)
		if err == nil && len(file.Arch) == 0 {
			t.Error("a file for no machine")
		}
		file.Find(build)
		file.Wants([]string{"x"})
	})
}
