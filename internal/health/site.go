package health

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"time"

	"dravit/internal/kind"
	"dravit/internal/logfile"
	"dravit/internal/pattern"
	"dravit/internal/proc"
	"dravit/internal/resolver"
	"dravit/internal/stackfile"
)

// RoutePath is the path at which the gateway itself answers, for every name that it knows, which stack has the name.
const RoutePath = "/.dravit/route"

// AskHeader carries a nonce. The gateway signs its answer with it.
const AskHeader = "Dravit-Ask"

// CheckHeader marks a request of Dravit's own for a page; applications do not see it. Its value is Checks for a look
// that says nothing about what users ask, and Again for one that finds out whether a page which failed still does.
const CheckHeader = "Dravit-Check"

// The values of CheckHeader.
const (
	Checks = "check"
	Again  = "again"
)

// Seal returns a signature which proves that an answer comes from this user's gateway: it needs the gateway's key.
func Seal(key, nonce, stackID, site string) string {
	mac := hmac.New(sha256.New, []byte(key))
	fmt.Fprintf(mac, "%s\n%s\n%s", nonce, stackID, site)
	return hex.EncodeToString(mac.Sum(nil))
}

// Routed is the gateway's answer at RoutePath.
type Routed struct {
	StackID string `json:"stack_id"`
	Site    string `json:"site"`
	Seal    string `json:"seal"`
	Busy    int64  `json:"busy"` // requests under way for the stack, those aside whose answers may never end
	// Failed counts the requests for the site that failed since the gateway began: no answer, or a status from 500 on.
	Failed int64 `json:"failed"`
}

// AskGateway asks the gateway what it knows about a site, which neither the site's web server nor its application sees.
func AskGateway(ctx context.Context, gateway, host string) (r Routed, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+host+RoutePath, nil)
	if err != nil {
		return r, err
	}
	resp, err := Client(Dial("tcp", gateway)).Do(req)
	if err != nil {
		return r, err
	}
	defer resp.Body.Close()
	err = json.NewDecoder(resp.Body).Decode(&r)
	return r, err
}

// Target is a site as a check sees it.
type Target struct {
	StackID  string
	Name     string
	Host     string // without port
	URL      string
	HTTPPort int    // port
	Key      string // the gateway's
	Expect   *stackfile.Expect
	App      kind.Part
	Maker    kind.PageMaker // asks the runtime's process; nil if the app has no probe
	Logs     []string       // the files that the app's errors go to
	// Stores, if set, reports whether the app reaches its stores. A check asks the app only once, for its own rung and
	// for those of its sites. If nil, the probe asks the stores while it is reached through the web server.
	Stores func(ctx context.Context) error
}

// Site returns the ladder of a site: from the name to the page, and, if its runtime has a probe, to the stores behind
// it. The system's resolver is advisory for names below localhost: browsers connect to loopback without asking it, and
// so does the check.
func Site(site Target) []kind.Rung {
	v := &visit{Target: site, gateway: kind.Loopback(site.HTTPPort), path: site.Expect.URLPath()}
	v.client = Client(Dial("tcp", v.gateway))
	if e := site.Expect; e != nil {
		v.status, v.text = e.Status, e.Text
	}
	ladder := []kind.Rung{
		{
			Name:     kind.Resolves,
			Advisory: strings.HasSuffix(site.Host, "."+stackfile.DefaultSuffix),
			Ask:      func(ctx context.Context) error { return resolves(ctx, site.Host) },
		},
		{Name: kind.Reaches, Ask: v.reaches},
		{Name: kind.Routed, Ask: v.routed},
		{Name: kind.Replies, Ask: v.replies},
	}
	if v.text == "" && site.Maker == nil {
		return ladder
	}
	return append(ladder, kind.Rung{Name: kind.Matches, Ask: v.matches})
}

// visit is one check of one site. Its methods are the rungs of the ladder.
type visit struct {
	Target
	gateway string // the gateway's address
	client  *http.Client
	path    string // the path to ask for
	status  int    // the expected status; 0: any below 400
	text    string // what the page must contain
	page    []byte // what came, when the site replied
}

// get asks the site through the gateway, and returns at most 4 MB of the body.
func (v *visit) get(ctx context.Context, path string, header map[string]string) (int, []byte, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, strings.TrimSuffix(v.URL, "/")+path, nil)
	if err != nil {
		return 0, nil, err
	}
	req.Header.Set(CheckHeader, Checks)
	for name, value := range header {
		req.Header.Set(name, value)
	}
	resp, err := v.client.Do(req)
	if err != nil {
		return 0, nil, &kind.Miss{Expected: "an answer", Got: Plain(err)}
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, 4<<20))
	return resp.StatusCode, body, err
}

func (v *visit) reaches(ctx context.Context) error {
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", v.gateway)
	if err != nil {
		return &kind.Miss{Expected: "the gateway at " + v.gateway, Got: Plain(err)}
	}
	return conn.Close()
}

// routed checks that this user's gateway answers, and that it leads the name to this site.
func (v *visit) routed(ctx context.Context) error {
	nonce := rand.Text()
	_, body, err := v.get(ctx, RoutePath, map[string]string{AskHeader: nonce})
	if err != nil {
		return err
	}
	var r Routed
	err = json.Unmarshal(body, &r)
	if err != nil || !hmac.Equal([]byte(r.Seal), []byte(Seal(v.Key, nonce, r.StackID, r.Site))) {
		holder := proc.PortHolder(v.gateway).String()
		return &kind.Miss{
			Expected: "Dravit's gateway at " + v.gateway,
			Got:      "an answer without its signature, from " + holder + ": it does not count",
		}
	}
	if r.StackID != v.StackID || r.Site != v.Name {
		return &kind.Miss{Expected: "the site " + v.Name + " of this stack", Got: "another one"}
	}
	return nil
}

// replies asks for the page, and judges its status and whether it is complete.
func (v *visit) replies(ctx context.Context) error {
	sizes := make([]int64, len(v.Logs))
	for i, file := range v.Logs {
		sizes[i] = logfile.Size(file)
	}
	got, body, err := v.get(ctx, v.path, nil)
	if err != nil {
		return err
	}
	v.page = body
	if err := v.others(ctx); err != nil && (v.status == 0 && got < 400 || got == v.status) {
		return err
	}
	answer := fmt.Sprintf("status %d: %s", got, excerpt(body))
	switch {
	case v.status != 0 && got != v.status:
		return &kind.Miss{Expected: fmt.Sprintf("status %d at %s", v.status, v.path), Got: answer}
	case v.status == 0 && got >= 400:
		return &kind.Miss{Expected: "a status below 400 at " + v.path, Got: answer}
	case v.Maker == nil:
		return nil
	}
	if fault := v.Maker.Fault(body); fault != "" {
		return &kind.Miss{Expected: "a page at " + v.path, Got: fault}
	}
	if fault := cutOff(v.Target, body, sizes); fault != "" {
		return &kind.Miss{Expected: "a whole page at " + v.path, Got: "a page that an error cut off: " + fault}
	}
	return nil
}

// others asks for the further paths that have to answer.
func (v *visit) others(ctx context.Context) error {
	if v.Expect == nil {
		return nil
	}
	for _, path := range v.Expect.Also {
		got, body, err := v.get(ctx, path, nil)
		if err != nil {
			return err
		}
		if got >= 400 {
			return &kind.Miss{Expected: "a status below 400 at " + path,
				Got: fmt.Sprintf("status %d: %s", got, excerpt(body))}
		}
		if v.Maker != nil {
			if fault := v.Maker.Fault(body); fault != "" {
				return &kind.Miss{Expected: "a page at " + path, Got: fault}
			}
		}
	}
	return nil
}

// matches searches the page for the expected text, and asks the app's probe, if it has one, about the stores.
func (v *visit) matches(ctx context.Context) error {
	if !bytes.Contains(v.page, []byte(v.text)) {
		return &kind.Miss{Expected: fmt.Sprintf("%q in the page at %s", v.text, v.path), Got: excerpt(v.page)}
	}
	if v.Maker == nil {
		return nil
	}
	token, err := v.Maker.ProbeToken(v.App)
	if err != nil {
		return err
	}
	header := map[string]string{kind.ProbeHeader: token}
	if v.Stores != nil {
		header[kind.AloneHeader] = "yes"
	}
	status, body, err := v.get(ctx, kind.ProbePath, header)
	if err == nil {
		err = v.Maker.Judge(v.App, status, body)
	}
	if err != nil || v.Stores == nil {
		return err
	}
	return v.Stores(ctx)
}

// logDelay is how long after a page was cut off its error may take to reach the log.
const logDelay = 50 * time.Millisecond

// cutOff returns the error that ended a page early and was written to a log only, else "". A page that ends with
// </html> is complete.
func cutOff(site Target, page []byte, sizes []int64) string {
	lower := bytes.ToLower(page)
	if bytes.Contains(lower, []byte("</html>")) {
		return ""
	}
	begun := bytes.Contains(lower, []byte("<html")) || bytes.Contains(lower, []byte("<!doctype html"))
	for tries := 0; ; tries++ {
		for i, file := range site.Logs {
			if fault := site.Maker.LoggedFault(said(file, sizes[i])); fault != "" {
				return fault
			}
		}
		if !begun || tries == 1 {
			return ""
		}
		time.Sleep(logDelay)
	}
}

// said returns what a log got after an offset, at most its last 64 KB.
func said(file string, offset int64) string {
	text, _ := logfile.Since(file, offset, 64<<10)
	return text
}

// unsaid is what a page contains and does not show.
var unsaid = pattern.New(`(?is)<(style|script|head)\b.*?</(style|script|head)>`)

// excerpt returns the beginning of a page's text, without its tags.
func excerpt(page []byte) string {
	var b strings.Builder
	depth := 0
	for _, r := range string(unsaid().ReplaceAll(page[:min(len(page), 16<<10)], nil)) {
		switch {
		case r == '<':
			depth++
			b.WriteByte(' ')
		case r == '>' && depth > 0:
			depth--
		case depth == 0:
			b.WriteRune(r)
		}
	}
	text := strings.Join(strings.Fields(b.String()), " ")
	if len(text) > 160 {
		text = strings.ToValidUTF8(text[:160], "") + "..."
	}
	if text == "" {
		return "an empty page"
	}
	return text
}

// resolves asks the system's resolver, as a library of another language would see it.
func resolves(ctx context.Context, host string) error {
	addresses, err := resolver.Addresses(ctx, host)
	if err != nil {
		return &kind.Miss{Expected: "a loopback address for " + host, Got: err.Error()}
	}
	for _, a := range addresses {
		if !a.IsLoopback() {
			return &kind.Miss{Expected: "a loopback address for " + host, Got: a.String()}
		}
	}
	return nil
}
