package proc

import (
	"encoding/hex"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// recorded returns what macOS answers about some open files, by name (testdata/procinfo.c).
func recorded(t *testing.T) map[string][]byte {
	t.Helper()
	text, err := os.ReadFile("testdata/procinfo.hex")
	require.NoError(t, err)
	all := map[string][]byte{}
	for line := range strings.Lines(string(text)) {
		name, digits, _ := strings.Cut(strings.TrimSpace(line), " ")
		raw, err := hex.DecodeString(digits)
		require.NoError(t, err)
		all[name] = raw
	}
	return all
}

func TestDecodesWhatMacOSAnswers(t *testing.T) {
	raw := recorded(t)
	assert.Equal(t, []descriptor{{0, vnodeDescriptor}, {3, vnodeDescriptor}, {4, 5}, {7, socketDescriptor}},
		decodeDescriptors(raw["list"]))
	assert.Equal(
		t,
		[]descriptor{{0, vnodeDescriptor}},
		decodeDescriptors(raw["list"][:15]),
		"half an entry is none",
	)

	v, ok := decodeVnode(raw["lock"])
	require.True(t, ok)
	assert.Equal(t, vnode{16777233, 8608421234, "/Users/keel/Library/dravit/stacks/f1/db.lock"}, v)
	_, ok = decodeVnode(raw["lock"][:vnodeInfoSize-1])
	assert.False(t, ok)

	at := netip.MustParseAddrPort
	for name, want := range map[string]socket{
		"web":        {kind: tcpSocket, listens: true, local: at("127.0.0.1:8080"), remote: at("0.0.0.0:0")},
		"everywhere": {kind: tcpSocket, listens: true, local: at("[::]:3306"), remote: at("[::]:0")},
		"every4":     {kind: tcpSocket, listens: true, local: at("0.0.0.0:5432"), remote: at("0.0.0.0:0")},
		"web6":       {kind: tcpSocket, listens: true, local: at("[::1]:8080"), remote: at("[::]:0")},
		"client":     {kind: tcpSocket, connected: true, local: at("127.0.0.1:50123"), remote: at("127.0.0.1:3306")},
		"mapped":     {kind: tcpSocket, connected: true, local: at("127.0.0.1:3306"), remote: at("127.0.0.1:50123")},
		"names":      {kind: udpSocket, local: at("127.0.0.1:5353"), remote: at("0.0.0.0:0")},
		"query":      {kind: udpSocket, local: at("127.0.0.1:50200"), remote: at("127.0.0.1:53")},
		"socket":     {kind: unixSocket, listens: true, path: "/private/tmp/dravit-501/f1/db.sock"},
		"talk":       {kind: unixSocket, path: "/private/tmp/dravit-501/f1/db.sock"},
	} {
		got, ok := decodeSocket(raw[name])
		require.True(t, ok, name)
		assert.Equal(t, want, got, name)
		_, ok = decodeSocket(raw[name][:socketInfoSize-1])
		assert.False(t, ok, name)
	}
}

// aMac has three processes: a database (10), a client of it (20), and one that ended while it was asked (30).
func aMac(t *testing.T) openFiles {
	raw := recorded(t)
	files := map[int][]string{
		10: {"null", "lock", "socket", "everywhere", "mapped", "names"},
		20: {"null", "removed", "talk", "client", "query", "web", "web"},
	}
	at := func(pid, number int) []byte {
		if number < len(files[pid]) {
			return raw[files[pid][number]]
		}
		return nil
	}
	return openFiles{
		processes: func() []int { return []int{10, 20, 30} },
		descriptors: func(pid int) []byte {
			var list []byte
			for i, name := range files[pid] {
				kind := byte(socketDescriptor)
				if name == "null" || name == "lock" || name == "removed" {
					kind = vnodeDescriptor
				}
				list = append(list, byte(i), 0, 0, 0, kind, 0, 0, 0)
			}
			return append(list, 90, 0, 0, 0, 2, 0, 0, 0) // closed before it could be asked
		},
		vnode:  at,
		socket: at,
	}
}

func TestWhoOwnsWhatOnAMac(t *testing.T) {
	mac := aMac(t)
	assert.Equal(t, []int{10}, mac.holders(16777233, 8608421234))
	assert.Equal(t, []int{10, 20}, mac.holders(3, 300))
	assert.Empty(t, mac.holders(3, 8608421234), "the same number on another disk")
	assert.Equal(t, []string{"/Users/keel/Library/dravit/stacks/f1/db.lock"}, mac.locks(10))
	assert.Empty(t, mac.locks(20))
	assert.Empty(t, mac.locks(30))

	const path = "/private/tmp/dravit-501/f1/db.sock"
	assert.True(t, mac.ownsUnix([]int{20, 10}, path))
	assert.False(t, mac.ownsUnix([]int{20, 30}, path), "a client does not listen")
	assert.False(t, mac.ownsUnix([]int{10}, path+"x"))
	assert.False(t, mac.ownsUnix(nil, path))

	assert.Equal(t, []Listener{
		{Address: "::", Port: 3306, UID: 501, socketKey: 10},
		{Address: "127.0.0.1", Port: 8080, UID: 501, socketKey: 20},
	}, mac.tcpListeners(501))
	assert.Equal(t, []Listener{{Address: "127.0.0.1", Port: 5353, UID: 501, socketKey: 10}}, mac.udpListeners(501))
	assert.Len(t, taking(mac.tcpListeners(501), netip.MustParseAddrPort("127.0.0.1:3306")), 1)

	assert.Equal(t, map[int]int{50123: 20}, mac.clients(3306))
	server := netip.MustParseAddrPort("127.0.0.1:3306")
	assert.True(t, mac.connected(netip.MustParseAddrPort("127.0.0.1:50123"), server))
	assert.False(t, mac.connected(netip.MustParseAddrPort("127.0.0.1:50124"), server))
}

// On macOS /tmp is a link: a program binds one spelling, and another one asks.
func TestASocketByAnotherSpelling(t *testing.T) {
	dir := RealPath(t.TempDir())
	require.NoError(t, os.Mkdir(filepath.Join(dir, "real"), 0o700))
	require.NoError(t, os.Symlink("real", filepath.Join(dir, "link")))
	raw := recorded(t)["socket"]
	copy(raw[fileInfoSize+240+18:], filepath.Join(dir, "real", "s")+"\x00")
	mac := openFiles{
		descriptors: func(int) []byte { return []byte{0, 0, 0, 0, socketDescriptor, 0, 0, 0} },
		socket:      func(int, int) []byte { return raw },
	}
	assert.True(t, mac.ownsUnix([]int{1}, filepath.Join(dir, "link", "s")))
}
