package main

import (
	"fmt"
	"os"
	"path/filepath"
)

// propose measures a proposal for a small project and for one of 50,000 files.
func (b *bench) propose() error {
	for _, c := range []struct {
		what  string
		files int
		aim   float64
	}{{"propose for a small project", 20, 100}, {"propose for 50,000 files", 50_000, 2000}} {
		dir := filepath.Join(b.dir, fmt.Sprintf("quay-%d", c.files))
		if err := pages(dir, c.files); err != nil {
			return err
		}
		var took []float64
		for range b.rounds {
			ms, err := timed(func() error { return b.command("propose", "-C", dir, "--json") })
			if err != nil {
				return err
			}
			took = append(took, ms)
		}
		fmt.Printf("%-44s %7.1f ms   aim %.0f ms\n", c.what, median(took), c.aim)
		if err := os.RemoveAll(dir); err != nil {
			return err
		}
	}
	return nil
}

// pages makes a project with that many pages of PHP, a hundred in a folder.
func pages(dir string, files int) error {
	text := "<?php\nfunction tide%d($day) { return mb_strlen($day) . getenv('TIDE_DB_HOST'); }\n" +
		"$rows = mysqli_query($db, \"SELECT * FROM tides WHERE day = {$row['day']}\");\n"
	for i := range files {
		name := filepath.Join(dir, fmt.Sprintf("pier%d", i/100), fmt.Sprintf("tide%d.php", i))
		if i == 0 {
			name = filepath.Join(dir, "index.php")
		}
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(name, fmt.Appendf(nil, text, i), 0o644); err != nil {
			return err
		}
	}
	return nil
}
