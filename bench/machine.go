package main

import (
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"

	"dravit/internal/kind"
	"dravit/internal/kind/all"
	"dravit/internal/plan"
	"dravit/internal/project"
	"dravit/internal/stackfile"
	"dravit/internal/survey"
)

// programs is how many programs the surveyed tree has.
const programs = 300

// survey measures a cold and a warm survey of a made-up tree of programs: small scripts that print their versions as
// the real programs do. The yardstick of the cold survey is asking each program once, one after the other; that of the
// warm survey is one stat of each file.
func (b *bench) survey() error {
	root := filepath.Join(b.dir, "tree")
	says := []struct{ name, text string }{
		{"nginx", "nginx version: nginx/1.%d.0"},
		{"redis-server", "Redis server v=7.%d.15 sha=0"},
		{"memcached", "memcached 1.%d.18"},
	}
	var files []string
	for i := range programs {
		s := says[i%len(says)]
		dir := filepath.Join(root, "home/ada/.fleet/versions", fmt.Sprintf("%s-%d", s.name, i), "bin")
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
		file := filepath.Join(dir, s.name)
		if err := os.WriteFile(file, []byte("#!/bin/sh\necho '"+fmt.Sprintf(s.text, i)+"'\n"), 0o755); err != nil {
			return err
		}
		files = append(files, file)
	}
	m := survey.Machine{
		Kinds: all.Kinds(),
		Cache: filepath.Join(b.dir, "survey.json"),
		Root:  root,
		Home:  "/home/ada",
		Path:  "/usr/bin",
	}
	look := func() error {
		s, err := m.Look(b.ctx, nil)
		if err == nil && len(s.Programs) != programs {
			err = fmt.Errorf("%d programs found, not %d", len(s.Programs), programs)
		}
		return err
	}
	var cold, warm, asked, looked []float64
	for range max(3, b.rounds/5) {
		_ = os.Remove(m.Cache)
		ms, err := timed(look)
		if err != nil {
			return err
		}
		cold = append(cold, ms)
		if ms, err = timed(func() error { return eachOnce(files) }); err != nil {
			return err
		}
		asked = append(asked, ms)
	}
	for range b.rounds {
		ms, err := timed(look)
		if err != nil {
			return err
		}
		warm = append(warm, ms)
		ms, err = timed(func() error {
			for _, f := range files {
				if _, err := os.Stat(f); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
		looked = append(looked, ms)
	}
	report(fmt.Sprintf("survey of %d programs, cold", programs), cold, asked, "each asked once, in turn", "1")
	report(fmt.Sprintf("survey of %d programs, warm", programs), warm, looked, "each file looked at once", "none")
	return nil
}

func eachOnce(files []string) error {
	for _, f := range files {
		if err := exec.Command(f, "--version").Run(); err != nil {
			return err
		}
	}
	return nil
}

// planner measures the decisions for generated surveys and stacks, and how their time grows: the last column stays the
// same if the time grows as n log n.
func (b *bench) planner() error {
	kinds := all.Kinds().ByName()
	fmt.Println("planner: candidates  stacks       ms   ms per n log n")
	for _, size := range [][2]int{{10, 1}, {50, 10}, {200, 50}, {500, 100}, {1000, 250}, {2000, 500}} {
		in := generated(size[0], size[1])
		var times []float64
		for range b.rounds {
			ms, err := timed(func() error {
				if p := plan.Make(in, kinds); !p.OK {
					return fmt.Errorf("no plan: %+v", p.Faults)
				}
				return nil
			})
			if err != nil {
				return err
			}
			times = append(times, ms)
		}
		n := float64(size[0] + size[1])
		fmt.Printf("%19d %7d %8.2f %16.5f\n", size[0], size[1], median(times), median(times)/(n*math.Log2(n)))
	}
	fmt.Println("aim: 50 ms at the top, no worse than n log n")
	return nil
}

// generated returns a machine with that many programs and other stacks, and a stack of eight parts that only the oldest
// program of each kind can serve.
func generated(candidates, stacks int) plan.Input {
	in := plan.Input{
		Format:  plan.Format,
		StackID: "bench",
		Run:     "/tmp/dravit",
		Version: "0.1.0",
		Project: project.Facts{
			Dir: "/projects/ferry", Folders: map[string]project.Folder{"public": {Exists: true, Index: "index.php"}},
		},
	}
	in.Survey.Host = survey.Host{OS: "linux", Arch: "amd64", EphemeralLow: 32768, EphemeralHigh: 60999}
	names := []string{"php", "nginx", "mariadb", "redis", "node"}
	for i := range candidates {
		name := names[i%len(names)]
		v := fmt.Sprintf("10.%d.%d", 11+i/50, i%50) // of a major release that each of the kinds takes
		p := kind.Program{
			Kind:    name,
			Version: v,
			Path:    fmt.Sprintf("/opt/%s/%s/bin/%s", name, v, name),
			Origin:  survey.Versions,
			Facts:   map[string]string{"share": "/s", "initdb": "/i"},
		}
		if name == "php" {
			api, dir := fmt.Sprintf("API2%07d,NTS", i), fmt.Sprintf("/opt/php/%s/ext", v)
			p.Facts = map[string]string{
				"extension_api": api,
				"extension_dir": dir,
				"built_in":      "core date json",
				"arch":          "amd64",
			}
			for _, e := range []string{"intl", "mysqli", "opcache"} {
				in.Survey.Modules = append(in.Survey.Modules, kind.Module{
					Kind:  "php",
					Name:  e,
					File:  dir + "/" + e + ".so",
					Built: api,
					Arch:  []string{"amd64"},
				})
			}
			if i == 0 {
				in.Survey.Modules = append(in.Survey.Modules, kind.Module{
					Kind:  "php",
					Name:  "kelp",
					File:  dir + "/kelp.so",
					Built: api,
					Arch:  []string{"amd64"},
				})
			}
		}
		in.Survey.Programs = append(in.Survey.Programs, p)
	}
	in.Ledger = plan.Ledger{Ports: map[string]int{}, Others: map[int]string{}, Hosts: map[string]string{}}
	for i := range stacks {
		name := "ferry"
		if i > 0 {
			name = fmt.Sprintf("ferry-%d", i+1)
		}
		in.Ledger.Stacks = append(in.Ledger.Stacks, name)
		in.Ledger.Hosts[name+".localhost"] = name
		for j := range 4 {
			in.Ledger.Others[13306+4*i+j] = name
			in.Survey.Ports = append(in.Survey.Ports, survey.Port{
				Protocol: "tcp",
				Address:  "127.0.0.1",
				Port:     13306 + 4*i + j,
				Stack:    name,
			})
		}
	}
	in.File = &stackfile.File{Name: "ferry", Parts: map[string]stackfile.PartConfig{
		"web":   {Kind: stackfile.Texts{"nginx"}, Version: "10.11.1"},
		"app":   {Kind: stackfile.Texts{"php"}, Extensions: []string{"intl", "kelp"}},
		"db":    {Kind: stackfile.Texts{"mariadb"}, Version: "10.11"},
		"seats": {Kind: stackfile.Texts{"redis"}},
		"api":   {Kind: stackfile.Texts{"node"}, Command: "node api.js", Version: "10.11"},
		"mail":  {Kind: stackfile.Texts{"dravit-mail"}},
		"store": {Kind: stackfile.Texts{"sqlite"}}, "tides": {Kind: stackfile.Texts{"custom"}, Command: "./tides"},
	}, Sites: []stackfile.SiteConfig{{Name: "ferry", App: "app"}, {Name: "api", App: "api"}}}
	return in
}
