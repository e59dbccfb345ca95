package demo

import (
	"context"
	"crypto/rand"
	"database/sql"
	_ "embed"
	"fmt"
	"html/template"
	"io/fs"
	"net"
	"net/http"
	netmail "net/mail"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"
	_ "modernc.org/sqlite" // the driver

	"dravit/internal/health"
	"dravit/internal/webrules"
)

//go:embed pages.html
var pagesText string

var pages = sync.OnceValue(func() *template.Template { return template.Must(template.New("").Parse(pagesText)) })

// Serve serves the demo's pages. It finds the stack's stores in the environment, as a project's own server would.
func Serve(ctx context.Context, address string) error {
	db, err := open()
	if err != nil {
		return err
	}
	defer db.Close()
	o := &office{db: db, cache: cache(), password: os.Getenv("REDIS_PASSWORD")}
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return err
	}
	return webrules.ServeHTTP(ctx, &http.Server{Handler: o.handler(), ReadHeaderTimeout: time.Minute}, listener)
}

// open opens the stack's database, which is of one of two kinds.
func open() (*sql.DB, error) {
	if os.Getenv("DB_CONNECTION") == "sqlite" {
		return sql.Open("sqlite", "file:"+os.Getenv("DB_DATABASE")+"?_pragma=busy_timeout(3000)")
	}
	c := mysql.NewConfig()
	c.Net, c.Addr = "tcp", os.Getenv("DB_HOST")+":"+os.Getenv("DB_PORT")
	c.User, c.Passwd, c.DBName = os.Getenv("DB_USERNAME"), os.Getenv("DB_PASSWORD"), os.Getenv("DB_DATABASE")
	return sql.Open("mysql", c.FormatDSN())
}

type office struct {
	db              *sql.DB
	cache, password string
}

type sailing struct {
	ID, Minutes, Seats, Free int
	Leaves, From, To, Boat   string
	Gone, Next               bool
}

type booking struct{ Code, Leaves, From, To, Boat, Name, Email, Seats, Made string }

type pageData struct {
	Title, Store, Fault, Done string
	Next                      sailing
	Sailings                  []sailing
	Tides                     [][3]string
	Bookings                  []booking
	Boats                     [][2]string
}

func (o *office) handler() http.Handler {
	mux := http.NewServeMux()
	style, _ := fs.Sub(files, "project/public") // it is embedded
	mux.Handle("GET /style.css", http.FileServerFS(style))
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.Host, "crew") {
			o.crew(w, r)
			return
		}
		o.timetable(w, r, http.StatusOK, pageData{})
	})
	mux.HandleFunc("POST /{$}", o.book)
	return mux
}

func (o *office) show(w http.ResponseWriter, name string, status int, data pageData) {
	data.Store = "MariaDB"
	if os.Getenv("DB_CONNECTION") == "sqlite" {
		data.Store = "SQLite"
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_ = pages().ExecuteTemplate(w, name, data) // the visitor may have left
}

func (o *office) sailings(ctx context.Context) ([]sailing, error) {
	rows, err := o.db.QueryContext(ctx, "SELECT s.id, s.leaves, s.origin, s.arrives, s.minutes, b.name, b.seats FROM "+
		"sailings s JOIN boats b ON b.id = s.boat ORDER BY s.leaves")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []sailing
	now := time.Now().Format("15:04")
	for rows.Next() {
		var s sailing
		if err := rows.Scan(&s.ID, &s.Leaves, &s.From, &s.To, &s.Minutes, &s.Boat, &s.Seats); err != nil {
			return nil, err
		}
		s.Gone = s.Leaves <= now
		key := seatKey(s.ID)
		replies, err := health.Redis(ctx, health.Dial("tcp", o.cache), o.password,
			[]string{"SET", key, strconv.Itoa(s.Seats), "EX", "172800", "NX"}, []string{"GET", key})
		if err != nil {
			return nil, err
		}
		s.Free, _ = strconv.Atoi(replies[1])
		all = append(all, s)
	}
	return all, rows.Err()
}

func seatKey(id int) string { return fmt.Sprintf("seats:%s:%d", time.Now().Format("2006-01-02"), id) }

func (o *office) timetable(w http.ResponseWriter, r *http.Request, status int, data pageData) {
	all, err := o.sailings(r.Context())
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	next := 0
	for i, s := range all {
		if !s.Gone {
			next = i
			break
		}
	}
	all[next].Next = true
	data.Title, data.Sailings, data.Next = "Timetable", all, all[next]
	rows, err := o.db.QueryContext(r.Context(), "SELECT at, state, metres FROM tides ORDER BY at")
	if err == nil {
		defer rows.Close()
		for rows.Next() {
			var t [3]string
			if err = rows.Scan(&t[0], &t[1], &t[2]); err != nil {
				break
			}
			data.Tides = append(data.Tides, t)
		}
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	o.show(w, "timetable", status, data)
}

func (o *office) book(w http.ResponseWriter, r *http.Request) {
	all, err := o.sailings(r.Context())
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	var s *sailing
	for i := range all {
		if strconv.Itoa(all[i].ID) == r.FormValue("sailing") {
			s = &all[i]
		}
	}
	name, wanted := strings.TrimSpace(r.FormValue("name")), 1
	if n, err := strconv.Atoi(r.FormValue("seats")); err == nil {
		wanted = max(1, min(9, n))
	}
	address, badAddress := netmail.ParseAddress(r.FormValue("email"))
	fault := ""
	switch {
	case s == nil:
		fault = "Pick a sailing."
	case name == "" || len(name) > 80:
		fault = "Tell us your name."
	case badAddress != nil:
		fault = "That is no mail address."
	case s.Free < wanted:
		fault = "Not enough free seats on that boat."
	}
	if fault != "" {
		o.timetable(w, r, http.StatusUnprocessableEntity, pageData{Fault: fault})
		return
	}
	code := rand.Text()[:6]
	_, err = health.Redis(r.Context(), health.Dial("tcp", o.cache), o.password,
		[]string{"DECRBY", seatKey(s.ID), strconv.Itoa(wanted)})
	if err == nil {
		_, err = o.db.ExecContext(r.Context(),
			"INSERT INTO bookings (code, sailing, name, email, seats, made) VALUES (?, ?, ?, ?, ?, ?)",
			code, s.ID, name, address.Address, wanted, time.Now().Format(time.DateTime))
	}
	if err == nil {
		text := fmt.Sprintf("From: Saltmarsh Ferry <office@saltmarsh-ferry.example>\r\nTo: %s\r\nSubject: Your "+
			"crossing at %s (%s)\r\nContent-Type: text/plain; charset=utf-8\r\n\r\nDear %s,\r\n\r\n%d seat(s) on the "+
			"%s, %s from %s to %s.\r\nYour code is %s. Be at the quay ten minutes before.\r\n\r\nSaltmarsh Ferry\r\n",
			address.Address, s.Leaves, code, name, wanted, s.Boat, s.Leaves, s.From, s.To, code)
		_, err = health.Redis(r.Context(), health.Dial("tcp", o.cache), o.password,
			[]string{"LPUSH", queue, address.Address + "\n" + text})
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	o.show(w, "booked", http.StatusOK, pageData{Title: "Booked", Done: code, Next: *s, Fault: address.Address})
}

func (o *office) crew(w http.ResponseWriter, r *http.Request) {
	data := pageData{Title: "Crew"}
	rows, err := o.db.QueryContext(r.Context(),
		"SELECT k.code, s.leaves, s.origin, s.arrives, b.name, k.name, k.email, k.seats, k.made FROM bookings k JOIN "+
			"sailings s ON s.id = k.sailing JOIN boats b ON b.id = s.boat ORDER BY k.made DESC")
	if err == nil {
		defer rows.Close()
		for rows.Next() {
			var k booking
			if err = rows.Scan(&k.Code, &k.Leaves, &k.From, &k.To, &k.Boat, &k.Name, &k.Email,
				&k.Seats, &k.Made); err != nil {
				break
			}
			data.Bookings = append(data.Bookings, k)
		}
	}
	if err == nil {
		boats, failed := o.db.QueryContext(r.Context(), "SELECT name, seats FROM boats ORDER BY name")
		if err = failed; err == nil {
			defer boats.Close()
			for boats.Next() {
				var b [2]string
				if err = boats.Scan(&b[0], &b[1]); err != nil {
					break
				}
				data.Boats = append(data.Boats, b)
			}
		}
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	o.show(w, "crew", http.StatusOK, data)
}
