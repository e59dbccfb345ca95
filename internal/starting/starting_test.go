package starting

import (
	"context"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/lifecycle"
	"dravit/internal/plan"
	"dravit/internal/stack"
	"dravit/internal/supply"
	"dravit/internal/trouble"
)

// made is a stack that exists in a test alone, and a user who answers as the test says.
type made struct {
	moved    *stack.Moved
	along    *bool
	unasked  []string
	servers  []stack.OutsideServer
	offers   []supply.Offer
	lack     error             // of Lacking
	outcomes []error           // of one start after another
	started  []plan.Consent    // with what each was made
	given    map[string]string // passwords of the last start
	install  string            // of the plan
	offered  bool
	supplied []string
	supply   error

	present, yes bool
	answer       func(Question) bool // nil: no
	asked        []Question
	password     string
	notes        []string
	installed    []string
	failed       error // of the installation
}

func (m *made) MovedFrom() *stack.Moved                                       { return m.moved }
func (m *made) TakeAlong(yes bool)                                            { m.along = &yes }
func (m *made) Unasked() ([]string, error)                                    { return m.unasked, nil }
func (m *made) OutsideServers(context.Context) ([]stack.OutsideServer, error) { return m.servers, nil }
func (m *made) Lacking(context.Context, stack.Started) ([]supply.Offer, error) {
	return m.offers, m.lack
}
func (m *made) Offered(context.Context, *stack.Started) { m.offered = true }
func (m *made) Supply(_ context.Context, o supply.Offer, _ func(done int64)) (supply.Tree, error) {
	m.supplied = append(m.supplied, o.Kind)
	return supply.Tree{}, m.supply
}

func (m *made) Start(_ context.Context, o stack.StartOptions, _ func(lifecycle.Progress)) (stack.Started, error) {
	err := m.outcomes[min(len(m.started), len(m.outcomes)-1)]
	m.started, m.given = append(m.started, o.Consent), o.Passwords
	return stack.Started{Plan: plan.Plan{Install: m.install}}, err
}

func (m *made) Present() bool    { return m.present }
func (m *made) Agreed() bool     { return m.yes }
func (m *made) Note(text string) { m.notes = append(m.notes, text) }
func (m *made) Agree(ctx context.Context, q Question) (bool, error) {
	m.asked = append(m.asked, q)
	if m.yes && !q.Opens {
		return true, nil
	}
	return m.present && m.answer != nil && m.answer(q), ctx.Err()
}
func (m *made) Password(context.Context, stack.OutsideServer) (string, bool, error) {
	return m.password, m.password != "", nil
}
func (m *made) Fetch(_ supply.Offer, get func(func(done int64)) error) error {
	return get(func(done int64) {})
}
func (m *made) Install(_ context.Context, command string) error {
	m.installed = append(m.installed, command)
	return m.failed
}

// run starts the stack. env is the user's environment.
func (m *made) run(t *testing.T, asNew bool, env map[string]string) (stack.Started, error) {
	t.Helper()
	if m.outcomes == nil {
		m.outcomes = []error{nil}
	}
	s := &Start{Stack: m, Ask: m, AsNew: asNew,
		Getenv: func(name string) (string, bool) { value, ok := env[name]; return value, ok },
		Bring: func(ctx context.Context, o stack.StartOptions) (stack.Started, error) {
			return m.Start(ctx, o, func(lifecycle.Progress) {})
		}}
	return s.Run(t.Context())
}

func yes(Question) bool { return true }

// A stack that was moved continues only with somebody's word, and nothing is started without it.
func TestTakeAlong(t *testing.T) {
	for name, c := range map[string]struct {
		user  made
		asNew bool
		along any // nil: nothing was decided
		fails bool
	}{
		"it was not moved":   {made{present: true}, false, nil, false},
		"as new":             {made{moved: &stack.Moved{}}, true, false, false},
		"a yes":              {made{moved: &stack.Moved{}, present: true, answer: yes}, false, true, false},
		"a no":               {made{moved: &stack.Moved{}, present: true}, false, false, false},
		"--yes":              {made{moved: &stack.Moved{}, yes: true}, false, true, false},
		"nobody to be asked": {made{moved: &stack.Moved{}}, false, nil, true},
	} {
		t.Run(name, func(t *testing.T) {
			m := c.user
			_, err := m.run(t, c.asNew, nil)
			assert.Equal(t, c.fails, errors.Is(err, trouble.Unanswered))
			assert.Equal(t, c.fails, len(m.started) == 0)
			if c.along == nil {
				assert.Nil(t, m.along)
			} else {
				require.NotNil(t, m.along)
				assert.Equal(t, c.along, *m.along)
			}
		})
	}
}

// What opens this machine to others needs a person's yes; a no is remembered, and nobody's silence is not.
func TestReach(t *testing.T) {
	want := []string{"ferry", plan.PartConsent("app")}
	m := made{unasked: want, present: true, answer: func(q Question) bool {
		assert.True(t, q.Opens)
		return q.About == "Part app asks to be reachable from your network."
	}}
	_, err := m.run(t, false, nil)
	require.NoError(t, err)
	assert.Equal(t, plan.Consent{Network: want[1:], Loopback: want[:1]}, m.started[0])

	for name, silent := range map[string]made{"nobody": {}, "--yes": {yes: true}} {
		silent.unasked = want
		_, err := silent.run(t, false, nil)
		require.NoError(t, err)
		assert.Equal(t, plan.Consent{}, silent.started[0], name)
	}
}

func TestPasswords(t *testing.T) {
	servers := []stack.OutsideServer{{Part: "db"}, {Part: "log", Known: true}, {Part: "old", Known: true,
		Refusal: "access denied"}}
	m := made{servers: servers, present: true, password: "typed"}
	_, err := m.run(t, false, map[string]string{"DRAVIT_PASSWORD_DB": "of the environment"})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"db": "of the environment", "old": "typed"}, m.given)

	m = made{servers: servers}
	_, err = m.run(t, false, nil)
	require.NoError(t, err)
	assert.Empty(t, m.given, "nobody can be asked")

	m = made{servers: servers}
	_, err = m.run(t, false, map[string]string{"DRAVIT_PASSWORD_DB": "two\nlines"})
	assert.ErrorIs(t, err, trouble.BadPassword)
	assert.Empty(t, m.started)
}

// What is lacking is fetched after a yes, and the start is tried once more.
func TestLacking(t *testing.T) {
	none, offers := stack.ErrNoPlan, []supply.Offer{{Kind: "redis"}, {Kind: "php"}}
	for name, c := range map[string]struct {
		user      made
		starts    int
		supplied  []string
		installed []string
		err       error
		offered   bool
	}{
		"nothing is lacking": {made{outcomes: []error{nil}, offers: offers, yes: true}, 1, nil, nil, nil, false},
		"--yes": {made{outcomes: []error{none, nil}, offers: offers, yes: true}, 2, []string{"redis", "php"}, nil, nil,
			false},
		"a yes": {made{outcomes: []error{none, nil}, offers: offers, present: true, answer: yes}, 2,
			[]string{"redis", "php"}, nil, nil, false},
		"a no":   {made{outcomes: []error{none}, offers: offers, present: true}, 1, nil, nil, none, true},
		"nobody": {made{outcomes: []error{none}, offers: offers}, 1, nil, nil, none, true},
		"it is not enough": {made{outcomes: []error{none, none}, offers: offers, yes: true}, 2,
			[]string{"redis", "php"}, nil, none, true},
		"a source fails": {made{outcomes: []error{none}, offers: offers, yes: true, supply: trouble.NoSource}, 1,
			[]string{"redis"}, nil, trouble.NoSource, false},
		"the system has it": {made{outcomes: []error{none, nil}, install: "get kelp", present: true, answer: yes},
			2, nil, []string{"get kelp"}, nil, false},
		"the system has it, and a no": {made{outcomes: []error{none}, install: "get kelp", present: true},
			1, nil, nil, none, true},
		"neither has it": {made{outcomes: []error{none}, present: true, answer: yes}, 1, nil, nil, none, true},
		"the system has it, and nobody is there": {made{outcomes: []error{none}, install: "get kelp", yes: true},
			1, nil, nil, none, true},
	} {
		t.Run(name, func(t *testing.T) {
			m := c.user
			_, err := m.run(t, false, nil)
			if c.err == nil {
				assert.NoError(t, err)
			} else {
				assert.ErrorIs(t, err, c.err)
			}
			assert.Len(t, m.started, c.starts)
			assert.Equal(t, c.supplied, m.supplied)
			assert.Equal(t, c.installed, m.installed)
			assert.Equal(t, c.offered, m.offered)
		})
	}
	m := made{outcomes: []error{none}, yes: true, lack: errors.New("fog")}
	_, err := m.run(t, false, nil)
	require.ErrorIs(t, err, none)
	assert.Equal(t, []string{"no source helps: fog"}, m.notes)
}

// An interruption at a question is no answer: nothing is fetched, installed or started after it.
func TestInterruptedQuestions(t *testing.T) {
	for name, m := range map[string]*made{
		"take along": {moved: &stack.Moved{}},
		"reach":      {unasked: []string{"ferry"}},
		"fetch":      {outcomes: []error{stack.ErrNoPlan}, offers: []supply.Offer{{Kind: "php"}}},
		"install":    {outcomes: []error{stack.ErrNoPlan}, install: "get kelp"},
	} {
		ctx, interrupt := context.WithCancel(t.Context())
		m.present, m.answer = true, func(Question) bool { interrupt(); return true }
		if m.outcomes == nil {
			m.outcomes = []error{nil}
		}
		s := &Start{Stack: m, Ask: m, Getenv: func(string) (string, bool) { return "", false },
			Bring: func(ctx context.Context, o stack.StartOptions) (stack.Started, error) {
				return m.Start(ctx, o, func(lifecycle.Progress) {})
			}}
		_, err := s.Run(ctx)
		assert.ErrorIs(t, err, context.Canceled, name)
		assert.Empty(t, m.supplied, name)
		assert.Empty(t, m.installed, name)
		if name == "take along" || name == "reach" {
			assert.Empty(t, m.started, name)
		}
	}
}

// A stack that was started before is asked about passwords alone.
func TestAgain(t *testing.T) {
	m := &made{moved: &stack.Moved{}, unasked: []string{"ferry"}, present: true, answer: yes, password: "typed",
		servers: []stack.OutsideServer{{Part: "db"}}, outcomes: []error{nil}}
	s := &Start{Stack: m, Ask: m, Getenv: func(string) (string, bool) { return "", false },
		Bring: func(ctx context.Context, o stack.StartOptions) (stack.Started, error) {
			return m.Start(ctx, o, func(lifecycle.Progress) {})
		}}
	_, err := s.Again(t.Context())
	require.NoError(t, err)
	assert.Empty(t, m.asked)
	assert.Equal(t, map[string]string{"db": "typed"}, m.given)
}
