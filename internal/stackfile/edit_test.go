package stackfile

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/trouble"
)

func TestEditExtensions(t *testing.T) {
	const head = "# ours\n[part.app] # pages\nkind = \"php\" # any\n"
	for name, c := range map[string]struct {
		text string
		list []string
		want string
	}{
		"add at the end": {head + `extensions = ["a", "b"] # these`, []string{"a", "b", "c"},
			head + `extensions = ["a", "b", "c"] # these`},
		"add to none":              {head + `extensions = []`, []string{"c"}, head + `extensions = ["c"]`},
		"take the first":           {head + `extensions = ["a", "b"]`, []string{"b"}, head + `extensions = ["b"]`},
		"take the last":            {head + `extensions = ["a", "b"]`, []string{"a"}, head + `extensions = ["a"]`},
		"take the last with comma": {head + `extensions = ["a", "b", ]`, []string{"a"}, head + `extensions = ["a", ]`},
		"take the only one":        {head + `extensions = [ "a" ]`, []string{}, head + `extensions = [ ]`},
		"take all, add one":        {head + `extensions = ["a", "b"]`, []string{"c"}, head + `extensions = ["c"]`},
		"single quotes": {head + `extensions = ['a', 'lib/b#.so']`, []string{"lib/b#.so", "c"},
			head + `extensions = ['lib/b#.so', "c"]`},
		"a line each": {head + "extensions = [\n  \"a\", # first\n  \"b\",\n]\n", []string{"a", "b", "c"},
			head + "extensions = [\n  \"a\", # first\n  \"b\",\n  \"c\",\n]\n"},
		"a line each, no comma": {head + "extensions = [\n  \"a\",\n  \"b\"\n]\n", []string{"a", "b", "c"},
			head + "extensions = [\n  \"a\",\n  \"b\",\n  \"c\"\n]\n"},
		"a line goes": {head + "extensions = [\n  \"a\",\n  # about b\n  \"b\",\n  \"c\",\n]\n",
			[]string{"a", "c"}, head + "extensions = [\n  \"a\",\n  # about b\n  \"c\",\n]\n"},
		"its comment stays": {head + "extensions = [\n  \"a\",\n  \"b\", # the boats\n]\n", []string{"a"},
			head + "extensions = [\n  \"a\",\n  # the boats\n]\n"},
		"after a comment": {head + "extensions = [\n  \"a\", # the boats\n]\n", []string{"a", "b"},
			head + "extensions = [\n  \"a\", # the boats\n  \"b\",\n]\n"},
		"no list": {head + "settings = { a = 1 }\n", []string{"a", "b"},
			head + "extensions = [\"a\", \"b\"]\nsettings = { a = 1 }\n"},
		"no list, no last line end": {"[part.app]\nkind = [\n \"php\", # first\n \"custom\"]", []string{"a"},
			"[part.app]\nkind = [\n \"php\", # first\n \"custom\"]\nextensions = [\"a\"]\n"},
		"dotted": {"part.app.kind = \"php\"\n", []string{"a"},
			"part.app.kind = \"php\"\npart.app.extensions = [\"a\"]\n"},
		"of the kind": {"[part.app]\nkind = [\"php\", \"custom\"]\nextensions = [\"z\"]\n[part.app.php]\n" +
			"extensions = [\"a\"]\n", []string{"a", "b"}, "[part.app]\nkind = [\"php\", \"custom\"]\n" +
			"extensions = [\"z\"]\n[part.app.php]\nextensions = [\"a\", \"b\"]\n"},
		"a long list": {head, strings.Fields("aaaaaaaaaaaaaaaaaaaaaaaaaaaaaa bbbbbbbbbbbbbbbbbbbbbbbbbbbbbb " +
			"cccccccccccccccccccccccccccccc"), head + "extensions = [\n  \"aaaaaaaaaaaaaaaaaaaaaaaaaaaaaa\", " +
			"\"bbbbbbbbbbbbbbbbbbbbbbbbbbbbbb\",\n  \"cccccccccccccccccccccccccccccc\",\n]\n"},
		"several a line": {head + "extensions = [\n  \"a\", \"b\",\n  \"c\",\n]\n", []string{"a", "c", "d"},
			head + "extensions = [\n  \"a\",\n  \"c\",\n  \"d\",\n]\n"},
		"windows line ends": {"[part.app]\r\nkind = \"php\"\r\nextensions = [\"a\"]\r\n", []string{"a", "b"},
			"[part.app]\r\nkind = \"php\"\r\nextensions = [\"a\", \"b\"]\r\n"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := folder(t, c.text, "")
			e, err := EditExtensions(dir, "app", "php", c.list, words)
			require.NoError(t, err)
			assert.Equal(t, c.want, string(e.Text))
			assert.Equal(t, Name, e.File)
			text, err := os.ReadFile(filepath.Join(dir, Name))
			require.NoError(t, err)
			assert.Equal(t, c.text, string(text), "nothing is written")
		})
	}
}

func TestEditLocalFile(t *testing.T) {
	e, err := EditExtensions(folder(t, "[part.app]\nkind = \"php\"\nextensions = [\"a\"]\n",
		"[part.app]\nextensions = [\"b\"]\n"), "app", "php", []string{"b", "c"}, words)
	require.NoError(t, err)
	assert.Equal(t, LocalName, e.File, "the file whose list counts")
	assert.Equal(t, "[part.app]\nextensions = [\"b\", \"c\"]\n", string(e.Text))
}

// What cannot be edited safely is refused.
func TestEditRefuses(t *testing.T) {
	for _, text := range []string{
		`part = { app = { kind = "php" } }`, `part.app = { kind = "php", settings = {} }`,
		"[part.web]\nkind = \"nginx\"\n",
	} {
		_, err := EditExtensions(folder(t, text, ""), "app", "php", []string{"a"}, words)
		assert.ErrorIs(t, err, trouble.NotEditable, text)
	}
}

// However a list is written, an edit either says what was wanted or is refused.
func FuzzEdit(f *testing.F) {
	f.Add(`["a", "b"] # x`, "c")
	f.Add("[\n 'a', # b\n\t\"b\"\n]", "a")
	f.Add(`["""a""", "b"]`, "b")
	f.Fuzz(func(t *testing.T, list, name string) {
		dir := t.TempDir()
		text := "[part.app]\nkind = \"php\"\nextensions = " + list + "\n[part.db]\nkind = \"mariadb\"\n"
		if os.WriteFile(filepath.Join(dir, Name), []byte(text), 0o600) != nil {
			return
		}
		before, err := Read(dir, words)
		if err != nil {
			return
		}
		want := slices.Clone(before.Parts["app"].Extensions)
		if i := slices.Index(want, name); i >= 0 {
			want = slices.Delete(want, i, i+1)
		} else {
			want = append(want, name)
		}
		e, err := EditExtensions(dir, "app", "php", want, words)
		if err != nil {
			if !errors.Is(err, trouble.NotEditable) {
				t.Fatal(err)
			}
			return
		}
		if err := os.WriteFile(filepath.Join(dir, Name), e.Text, 0o600); err != nil {
			t.Fatal(err)
		}
		after, err := Read(dir, words)
		if err != nil || !slices.Equal(after.Parts["app"].Extensions, want) || after.Parts["db"].Kind[0] != "mariadb" {
			t.Fatalf("%q became %q", text, e.Text)
		}
		if strings.Count(string(e.Text), "#") < strings.Count(text, "#")-strings.Count(name, "#") {
			t.Fatalf("a comment is lost: %q became %q", text, e.Text)
		}
	})
}
