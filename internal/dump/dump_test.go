package dump

import (
	"bytes"
	"compress/gzip"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"
)

const sql = "-- MariaDB dump 10.19\nCREATE TABLE boats (id INT);\n"

func packed(t *testing.T, how func(w io.Writer) io.WriteCloser) []byte {
	var b bytes.Buffer
	w := how(&b)
	_, err := io.WriteString(w, sql)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

func TestOpen(t *testing.T) {
	dir := t.TempDir()
	bzip2, err := exec.Command("sh", "-c", "printf '%s' \"$0\" | bzip2", sql).Output()
	require.NoError(t, err)
	for name, text := range map[string][]byte{
		"plain": []byte(sql),
		"gzip":  packed(t, func(w io.Writer) io.WriteCloser { return gzip.NewWriter(w) }),
		"bzip2": bzip2,
		"xz": packed(t, func(w io.Writer) io.WriteCloser {
			z, err := xz.NewWriter(w)
			require.NoError(t, err)
			return z
		}),
		"zstd": packed(t, func(w io.Writer) io.WriteCloser {
			z, err := zstd.NewWriter(w)
			require.NoError(t, err)
			return z
		}),
		"empty": nil,
	} {
		t.Run(name, func(t *testing.T) {
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), text, 0o644))
			d, err := Open(t.Context(), dir, name)
			require.NoError(t, err)
			defer d.Close()
			if name != "empty" {
				assert.Equal(t, "mariadb", d.Kind())
			}
			got, err := io.ReadAll(d)
			require.NoError(t, err)
			assert.Equal(t, strings.Repeat(sql, min(len(text), 1)), string(got))
			assert.Equal(t, int64(len(text)), d.Done())
			assert.Equal(t, int64(len(text)), d.Size)
			if name == "plain" || name == "empty" {
				return
			}
			require.NoError(t, os.WriteFile(filepath.Join(dir, "cut"), text[:len(text)-9], 0o644))
			cut, err := Open(t.Context(), dir, "cut")
			if err == nil {
				defer cut.Close()
				_, err = io.ReadAll(cut)
			}
			assert.Error(t, err, "a dump that is cut off is not whole")
		})
	}
	_, err = Open(t.Context(), dir, "nothing")
	assert.ErrorIs(t, err, os.ErrNotExist)
}

func TestKind(t *testing.T) {
	dir := t.TempDir()
	for text, want := range map[string]string{
		"-- MySQL dump 10.13": "mariadb", "--\n-- PostgreSQL database dump\n--": "postgres",
		"PRAGMA foreign_keys=OFF;\nBEGIN": "sqlite", "CREATE TABLE x (y INT);": "", "": "",
		"PGDMP\x01\x0e": "postgres",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "x"), []byte(text), 0o644))
		d, err := Open(t.Context(), dir, "x")
		require.NoError(t, err)
		assert.Equal(t, want, d.Kind(), text)
		d.Close()
	}
}
