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

	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/ledger"
	"dravit/internal/materialise"
)

const (
	loadConnections = 16
	loadRequests    = 8000 // in one round
)

// gateway measures requests for a file of 1 KB of the demo's: at its nginx itself, through another nginx as a proxy, and through the gateway,
// in turn, with the same client on the same machine.
func (b *bench) gateway() error {
	project := filepath.Join(b.dir, "gateway")
	if err := b.command("demo", project); err != nil {
		return err
	}
	defer func() { _ = b.command("demo", "--remove", project) }()
	if err := os.WriteFile(filepath.Join(project, "public", "kb.txt"), []byte(strings.Repeat("tide ", 205)[:1024]), 0o644); err != nil {
		return err
	}
	h, err := home.Open(os.Getenv("DRAVIT_HOME"))
	if err != nil {
		return err
	}
	real, err := ledger.RealDir(project)
	if err != nil {
		return err
	}
	book, err := ledger.Read(h)
	if err != nil {
		return err
	}
	spec, err := materialise.Read(h, book.ByDir(real))
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
	type series struct{ rate, p50, p99 []float64 }
	ways := []struct {
		name, network, address string
		got                    series
	}{{name: "nginx itself", network: "unix", address: web.Socket}, {name: "nginx as a proxy", network: "tcp", address: proxy}, {name: "the gateway", network: "tcp", address: fmt.Sprintf("%s:%d", kind.Host, spec.Gateway)}}
	for range max(3, b.rounds/3) {
		for i := range ways {
			rate, all, err := load(b.ctx, ways[i].network, ways[i].address, spec.Sites[0].Host)
			if err != nil {
				return fmt.Errorf("%s: %w", ways[i].name, err)
			}
			g := &ways[i].got
			g.rate, g.p50, g.p99 = append(g.rate, rate), append(g.p50, all[len(all)/2]), append(g.p99, all[len(all)*99/100])
		}
	}
	for _, w := range ways {
		fmt.Printf("%-18s %7.0f requests/s   p50 %6.2f ms   p99 %6.2f ms\n", w.name, median(w.got.rate), median(w.got.p50), median(w.got.p99))
	}
	fmt.Printf("gateway to nginx as a proxy: %.2f of its requests (aim 0.6), %.2f times its p99 (aim 2)\n", median(ways[2].got.rate)/median(ways[1].got.rate), median(ways[2].got.p99)/median(ways[1].got.p99))
	return nil
}

// nginxProxy starts an nginx that passes everything on to a socket, with connections kept as the gateway keeps them.
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
  client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;
  upstream stack { server unix:%[2]s; keepalive 64; }
  server { listen %[3]s; location / { proxy_pass http://stack; proxy_http_version 1.1; proxy_set_header Connection ""; proxy_set_header Host $http_host; } }
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

// load sends a bounded number of requests over kept connections and returns requests a second and every latency in ms, sorted.
func load(ctx context.Context, network, address, host string) (rate float64, all []float64, err error) {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	var wg sync.WaitGroup
	var mu sync.Mutex
	began := time.Now()
	for range loadConnections {
		wg.Go(func() {
			times, failed := visit(ctx, network, address, host, loadRequests/loadConnections)
			mu.Lock()
			defer mu.Unlock()
			all = append(all, times...)
			if failed != nil {
				err = failed
			}
		})
	}
	wg.Wait()
	slices.Sort(all)
	return float64(len(all)) / time.Since(began).Seconds(), all, err
}

func visit(ctx context.Context, network, address, host string, n int) ([]float64, error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	if deadline, ok := ctx.Deadline(); ok {
		_ = conn.SetDeadline(deadline)
	}
	r := bufio.NewReader(conn)
	request := []byte("GET /kb.txt HTTP/1.1\r\nHost: " + host + "\r\n\r\n")
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
		if err != nil || resp.StatusCode != 200 || size != 1024 {
			return nil, fmt.Errorf("status %d with %d bytes: %w", resp.StatusCode, size, err)
		}
		times = append(times, float64(time.Since(began).Microseconds())/1000)
	}
	return times, nil
}
