package workspace

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"

	"metabasis/internal/person"
	"metabasis/internal/settings"
	"metabasis/internal/store/secrets"
)

var notWord = regexp.MustCompile(`[^A-Z0-9]+`)

// Variable is the environment variable a part of a login is taken from, such as
// METABASIS_CREW_PASSWORD.
func Variable(login, part string) string {
	clean := func(s string) string { return notWord.ReplaceAllString(strings.ToUpper(s), "_") }
	if login == "" {
		login = "login"
	}
	return "METABASIS_" + clean(login) + "_" + clean(part)
}

// Finder finds secrets: in the environment, else in the secrets file, else by
// the program that the setting askpass names, else by asking. Each is looked for
// once.
type Finder struct {
	Getenv func(string) string
	Person person.Person // nil: nobody is there
	// Found is told every secret that was found, so that it is masked; nil for nobody.
	Found func(secret string)

	settings *settings.Settings
	dir      string

	mu     sync.Mutex
	typed  atomic.Bool // a person was asked
	opened bool
	file   *secrets.File
	known  map[secrets.ID]string
	given  map[secrets.ID]string // typed by a person in the place of what was found
	users  map[string]string     // the same of users' names, by login
}

// set takes a secret that a person typed in the place of what is found.
func (f *Finder) set(id secrets.ID, v string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.given == nil {
		f.given = map[secrets.ID]string{}
	}
	f.given[id] = f.told(v)
}

func (f *Finder) setUser(login, user string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.users == nil {
		f.users = map[string]string{}
	}
	f.users[login] = user
}

func (f *Finder) userOf(login string) string {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.users[login]
}

// Confided is what a finder was told by a person, for another process of the same person. It is secret.
type Confided struct {
	Secrets []Confidence      `json:"secrets,omitempty"`
	Users   map[string]string `json:"users,omitempty"` // by login
}

// Confidence is one of them.
type Confidence struct {
	Login  string `json:"login"`
	Part   string `json:"part"`
	Secret string `json:"secret"`
	Anew   bool   `json:"anew,omitempty"` // in the place of what is found
}

// Confided is what a person has told; nothing where nobody was asked.
func (f *Finder) Confided() (t Confided) {
	f.mu.Lock()
	defer f.mu.Unlock()
	add := func(of map[secrets.ID]string, anew bool) {
		for id, v := range of {
			t.Secrets = append(t.Secrets, Confidence{id.Login, id.Part, v, anew})
		}
	}
	if f.typed.Load() {
		add(f.known, false)
	}
	add(f.given, true)
	t.Users = maps.Clone(f.users)
	return t
}

// Confide takes what a person has told another finder.
func (f *Finder) Confide(t Confided) {
	for _, s := range t.Secrets {
		id := secrets.ID{Login: s.Login, Part: s.Part}
		if s.Anew {
			f.set(id, s.Secret)
			continue
		}
		f.mu.Lock()
		f.known[id] = f.told(s.Secret)
		f.typed.Store(true)
		f.mu.Unlock()
	}
	for login, user := range t.Users {
		f.setUser(login, user)
	}
}

// Finder makes the workspace's finder.
func (w *Workspace) Finder(getenv func(string) string, p person.Person) *Finder {
	return &Finder{Getenv: getenv, Person: p, settings: w.Settings, dir: w.Dir, known: map[secrets.ID]string{}}
}

// SecretsPath is where the workspace's secrets file is.
func (w *Workspace) SecretsPath() string { return inside(w.Dir, w.Settings.Get(settings.Secrets)) }

// inside makes a path of a setting: one that is not absolute lies in the
// workspace.
func inside(dir, path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(dir, path)
}

// Find finds a secret. Without a person's word on it, an optional one is not
// asked for: it is "" when it is nowhere to be found.
func (f *Finder) Find(ctx context.Context, id secrets.ID, optional bool) (string, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if v, ok := f.given[id]; ok {
		return v, nil
	}
	if v, ok := f.known[id]; ok {
		return v, nil
	}
	v, err := f.find(ctx, id, optional)
	if err == nil && v != "" {
		f.known[id] = v
	}
	return f.told(v), err
}

// Typed tells whether a person has typed a secret: then it may be another the next time.
func (f *Finder) Typed() bool { return f.typed.Load() }

// Forget forgets the secrets that were found: one of them may have been wrong. The
// secrets file stays open.
func (f *Finder) Forget() {
	f.mu.Lock()
	defer f.mu.Unlock()
	clear(f.known)
}

// told passes on a secret that was found.
func (f *Finder) told(v string) string {
	if f.Found != nil && v != "" {
		f.Found(v)
	}
	return v
}

func (f *Finder) find(ctx context.Context, id secrets.ID, optional bool) (string, error) {
	variable := Variable(id.Login, id.Part)
	if v := f.Getenv(variable); v != "" {
		return v, nil
	}
	file, err := f.secrets(ctx)
	if err != nil {
		return "", err
	}
	if file != nil {
		if v, ok := file.Get(id); ok {
			return v, nil
		}
	}
	if optional {
		return "", nil
	}
	return f.ask(ctx, fmt.Sprintf("%s of login %s", id.Part, id.Login), func() error {
		return fmt.Errorf("the %s of login %q is not known: set %s, put it into the secrets file with metabasis secret add %s %s, or name a program that prints it in METABASIS_ASKPASS",
			id.Part, id.Login, variable, id.Login, id.Part)
	})
}

// ask asks the program, else the person; where neither is there, nobody says what to
// do instead.
func (f *Finder) ask(ctx context.Context, question string, nobody func() error) (string, error) {
	if helper := f.settings.Get(settings.Helper); helper != "" {
		v, err := help(ctx, helper, question+": ")
		return f.told(v), err
	}
	if f.Person == nil {
		return "", nobody()
	}
	v, err := person.AskOne(ctx, f.Person, "A secret is wanted", person.Question{Text: question, Secret: true})
	if err != nil {
		return "", fmt.Errorf("%s: %w", question, err)
	}
	f.typed.Store(true)
	return f.told(v), nil
}

// Answer finds a value that a runbook asks for as a secret: in the environment, the
// secrets file (of the login "answer"), by the program, else by asking.
func (f *Finder) Answer(ctx context.Context, name, question string) (string, error) {
	id := secrets.ID{Login: "answer", Part: name}
	v, err := f.Find(ctx, id, true)
	if err != nil || v != "" {
		return v, err
	}
	if f.settings.Get(settings.Helper) == "" && f.Person != nil { // a slip in it would be on every device
		return f.askTwice(ctx, fmt.Sprintf("%s (%s, hidden)", question, name))
	}
	return f.ask(ctx, fmt.Sprintf("%s (%s, hidden)", question, name), func() error {
		return fmt.Errorf("the secret %s is not known: set %s, put it into the secrets file with metabasis secret add answer %s, or name a program that prints it in METABASIS_ASKPASS",
			name, Variable(id.Login, id.Part), name)
	})
}

// askTwice asks a person for a secret that is new, twice.
func (f *Finder) askTwice(ctx context.Context, question string) (string, error) {
	for hint := ""; ; hint = "the two were not the same" {
		answers, err := f.Person.Ask(ctx, person.Form{Title: "A new secret is wanted", Questions: []person.Question{
			{Text: question, Hint: hint, Secret: true}, {Text: "The same again", Secret: true}}})
		if err != nil {
			return "", fmt.Errorf("%s: %w", question, err)
		}
		if answers[0] == answers[1] {
			f.typed.Store(true)
			return f.told(answers[0]), nil
		}
	}
}

// answer answers a question of a host's login that is good once, such as one for a
// code: by the program, else by the person.
func (f *Finder) answer(ctx context.Context, host, question string) (string, error) {
	v, err := f.ask(ctx, fmt.Sprintf("%s asks %q", host, question), func() error {
		return fmt.Errorf("%w: name a program that does in METABASIS_ASKPASS", person.ErrNobody)
	})
	if err == nil && v == "" {
		err = errors.New("there was no answer")
	}
	return v, err
}

// secrets opens the secrets file, if there is one, when it is first needed.
func (f *Finder) secrets(ctx context.Context) (*secrets.File, error) {
	if f.opened {
		return f.file, nil
	}
	file, err := secrets.Open(inside(f.dir, f.settings.Get(settings.Secrets)), f.Key(ctx))
	if errors.Is(err, secrets.ErrNone) {
		err = nil
	}
	f.file, f.opened = file, err == nil
	return file, err
}

// Key is what opens the secrets file.
func (f *Finder) Key(ctx context.Context) secrets.Key {
	return secrets.Key{Identity: f.settings.Get(settings.Identity), Passphrase: func() (string, error) {
		if v := f.Getenv("METABASIS_SECRETS_PASSPHRASE"); v != "" {
			return f.told(v), nil
		}
		return f.ask(ctx, "Passphrase of the secrets file", func() error {
			return errors.New("the passphrase of the secrets file is not known: set METABASIS_SECRETS_PASSPHRASE, or name a program that prints it in METABASIS_ASKPASS")
		})
	}}
}

// help asks a program. What we know in confidence is not in its environment.
func help(ctx context.Context, helper, prompt string) (string, error) {
	cmd := exec.CommandContext(ctx, helper, prompt)
	cmd.Stderr = os.Stderr
	cmd.Env = ChildEnv(os.Environ())
	b, err := cmd.Output()
	if err != nil {
		return "", fmt.Errorf("METABASIS_ASKPASS: %s: %w", helper, err)
	}
	return string(bytes.TrimRight(b, "\r\n")), nil
}

// ChildEnv is the environment that programs we start may have: ours without the
// variables that may hold secrets.
func ChildEnv(env []string) []string {
	var out []string
	for _, v := range env {
		if !strings.HasPrefix(v, "METABASIS_") {
			out = append(out, v)
		}
	}
	return out
}
