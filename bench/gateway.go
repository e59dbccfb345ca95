package main

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"dravit/internal/gateway"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/kind/all"
	"dravit/internal/ledger"
	"dravit/internal/materialise"
)

const (
	loadConnections = 16
	loadRequests    = 8000 // in one round
)

// gateway measures requests for a file of 1 KB and for a small page of the runtime. It asks, in turn and with the same
// client, the demo's nginx itself, another nginx as a proxy in front of it, and the gateway. It also measures what ten
// thousand host names cost.
func (b *bench) gateway() error {
	project := filepath.Join(b.dir, "gateway")
	if err := b.command("demo", project); err != nil {
		return err
	}
	defer func() { _ = b.command("demo", "--remove", project) }()
	if err := os.WriteFile(filepath.Join(project, "public", "kb.txt"),
		[]byte(strings.Repeat("tide ", 205)[:1024]), 0o644); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(project, "public", "tide.php"),
		[]byte("<?php echo '"+tidePage+"';"), 0o644); err != nil {
		return err
	}
	h, err := home.Open(os.Getenv("DRAVIT_HOME"))
	if err != nil {
		return err
	}
	resolved, err := ledger.RealDir(project)
	if err != nil {
		return err
	}
	book, err := ledger.Read(h)
	if err != nil {
		return err
	}
	id, _ := book.ByDir(resolved)
	spec, err := materialise.Read(h, id, all.Kinds())
	if err != nil {
		return err
	}
	web, _ := spec.Part("web")
	if web.Kind != "nginx" {
		return fmt.Errorf("the demo's web server is %s here: this measure needs nginx", web.Kind)
	}
	proxy, stop, err := b.nginxProxy(web.Program, web.Socket)
	if err != nil {
		return err
	}
	defer stop()
	ways := []way{
		{"nginx itself", "unix", web.Socket},
		{"nginx as a proxy", "tcp", proxy},
		{"the gateway", "tcp", fmt.Sprintf("%s:%d", kind.Host, spec.HTTPPort)},
	}
	host := spec.Sites[0].Host
	for _, page := range []struct {
		title, path string
		size        int64
	}{{"a file of 1 KB", "/kb.txt", 1024}, {"a page of PHP's", "/tide.php", int64(len(tidePage))}} {
		got, err := b.compare(ways, host, page.path, page.size)
		if err != nil {
			return err
		}
		fmt.Println(page.title)
		for i, w := range ways {
			fmt.Printf("  %-18s %7.0f requests/s   p50 %6.2f ms   p99 %6.2f ms\n", w.name, median(got[i].rate),
				median(got[i].p50), median(got[i].p99))
		}
		fmt.Printf("  gateway to nginx as a proxy: %.2f of its requests (aim 0.65), %.2f times its p99 (aim 2)\n",
			median(got[2].rate)/median(got[1].rate), median(got[2].p99)/median(got[1].p99))
	}
	return b.manyNames(h, ways[2], host)
}

const tidePage = "the tide is high"

// way is one way to reach a page.
type way struct{ name, network, address string }

type series struct{ rate, p50, p99 []float64 }

// compare measures several ways to one page, in turn.
func (b *bench) compare(ways []way, host, path string, size int64) ([]series, error) {
	got := make([]series, len(ways))
	for range max(3, b.rounds/3) {
		for i, w := range ways {
			rate, times, err := load(b.ctx, w, host, path, size)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", w.name, err)
			}
			got[i].rate, got[i].p50, got[i].p99 = append(got[i].rate, rate), append(got[i].p50, times[len(times)/2]),
				append(got[i].p99, times[len(times)*99/100])
		}
	}
	return got, nil
}

// manyNames measures the gateway with ten names and with ten thousand, in turn.
func (b *bench) manyNames(h *home.Home, w way, host string) error {
	var table gateway.Table
	if err := home.ReadJSON(h.Path("routes.json"), &table); err != nil {
		return err
	}
	with := func(n int) error {
		more := table
		for i := range n - len(table.Routes) {
			more.Routes = append(slices.Clip(more.Routes), gateway.Route{
				Host:    fmt.Sprintf("boat-%d.localhost", i),
				Stack:   "boats",
				Network: "unix",
				Address: "/nowhere",
			})
		}
		return gateway.WriteTable(h, more)
	}
	defer func() { _ = gateway.WriteTable(h, table) }()
	rates := map[int][]float64{}
	for range max(3, b.rounds/3) {
		for _, n := range []int{10, 10_000} {
			if err := with(n); err != nil {
				return err
			}
			if _, err := visit(b.ctx, w, host, "/kb.txt", 1024, 1); err != nil { // it reads the table again
				return err
			}
			rate, _, err := load(b.ctx, w, host, "/kb.txt", 1024)
			if err != nil {
				return err
			}
			rates[n] = append(rates[n], rate)
		}
	}
	fmt.Printf("10,000 names: %.0f requests/s, %.2f of those with 10 (aim: 1, within noise)\n", median(rates[10_000]),
		median(rates[10_000])/median(rates[10]))
	return nil
}

// nginxProxy starts an nginx that passes every request to a socket and reuses connections as the gateway does.
func (b *bench) nginxProxy(program, socket string) (address string, stop func(), err error) {
	l, err := net.Listen("tcp", kind.Host+":0")
	if err != nil {
		return "", nil, err
	}
	address = l.Addr().String()
	l.Close()
	dir := filepath.Join(b.dir, "proxy")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", nil, err
	}
	conf := fmt.Sprintf(`daemon off;
worker_processes 1;
pid %[1]s/pid;
error_log stderr;
events { worker_connections 512; }
http {
  access_log off;
  client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; fastcgi_temp_path %[1]s/f;
  uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;
  upstream stack { server unix:%[2]s; keepalive 64; }
  server {
    listen %[3]s;
    location / {
      proxy_pass http://stack; proxy_http_version 1.1;
      proxy_set_header Connection ""; proxy_set_header Host $http_host;
    }
  }
}
`, dir, socket, address)
	if err := os.WriteFile(filepath.Join(dir, "nginx.conf"), []byte(conf), 0o600); err != nil {
		return "", nil, err
	}
	cmd := exec.CommandContext(b.ctx, program, "-p", dir, "-c", filepath.Join(dir, "nginx.conf"), "-e", "stderr")
	if err := cmd.Start(); err != nil {
		return "", nil, err
	}
	stop = func() { _ = cmd.Process.Signal(syscall.SIGTERM); _ = cmd.Wait() }
	for range 200 {
		if conn, err := net.Dial("tcp", address); err == nil {
			conn.Close()
			return address, stop, nil
		}
		time.Sleep(10 * time.Millisecond)
	}
	stop()
	return "", nil, fmt.Errorf("the proxy does not listen")
}

// load sends a bounded number of requests over reused connections. It returns the requests per second and every latency
// in ms, sorted.
func load(ctx context.Context, w way, host, path string, size int64) (rate float64, sorted []float64, err error) {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	var wg sync.WaitGroup
	var mu sync.Mutex
	began := time.Now()
	for range loadConnections {
		wg.Go(func() {
			times, failed := visit(ctx, w, host, path, size, loadRequests/loadConnections)
			mu.Lock()
			defer mu.Unlock()
			sorted = append(sorted, times...)
			if failed != nil {
				err = failed
			}
		})
	}
	wg.Wait()
	slices.Sort(sorted)
	return float64(len(sorted)) / time.Since(began).Seconds(), sorted, err
}

func visit(ctx context.Context, w way, host, path string, want int64, n int) ([]float64, error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, w.network, w.address)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	if deadline, ok := ctx.Deadline(); ok {
		_ = conn.SetDeadline(deadline)
	}
	r := bufio.NewReader(conn)
	request := []byte("GET " + path + " HTTP/1.1\r\nHost: " + host + "\r\n\r\n")
	times := make([]float64, 0, n)
	for range n {
		began := time.Now()
		if _, err := conn.Write(request); err != nil {
			return nil, err
		}
		resp, err := http.ReadResponse(r, nil)
		if err != nil {
			return nil, err
		}
		size, err := io.Copy(io.Discard, resp.Body)
		if err != nil || resp.StatusCode != 200 || size != want {
			return nil, fmt.Errorf("status %d with %d bytes: %w", resp.StatusCode, size, err)
		}
		times = append(times, float64(time.Since(began).Microseconds())/1000)
	}
	return times, nil
}
