package plan

import (
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"metabasis/internal/core/config"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/runbook"
)

// lanLanguage knows lans with titles.
func lanLanguage() *config.Language {
	l := &config.Language{Leave: "up", Rules: []config.Rule{
		{Line: regexp.MustCompile(`^lan \d+$`), Section: true, Away: "drop $0"},
		{In: regexp.MustCompile(`^lan \d+$`), Line: regexp.MustCompile(`^title \S+$`), Key: "title", Away: "drop title"},
	}}
	return l
}

// BenchmarkTables checks and plans a runbook over 5,000 devices with 20 rows of a table each.
func BenchmarkTables(b *testing.B) {
	var devices, rows strings.Builder
	devices.WriteString("name,address,platform,site,role\n")
	rows.WriteString("device,lan: number 2..4094,title\n")
	for i := range 5000 {
		fmt.Fprintf(&devices, "q-%d,198.51.%d.%d,tern,S%d,quay\n", i, i/250, i%250+1, i%40)
		for k := range 20 {
			fmt.Fprintf(&rows, "q-%d,%d,t%d\n", i, 100+k*7, k)
		}
	}
	book := []byte("runbook \"Lans\"\n  window    none\n\nscope\n  true\n\ntimer       5m\n\nstep \"Lans\"\n  for       l in lans\n  want\n    | lan <<l.lan>>\n    |   title <<l.title>>\n  no other  \"lan *\"\n")
	traits := map[string]Traits{"tern": {Timer: RestartTimer, Language: lanLanguage(), Command: time.Second}}
	read := func() *fleet.Fleet {
		f, err := fleet.Read("fleet.csv", []byte(devices.String()), []string{"tern"})
		require.NoError(b, err)
		t, err := fleet.Kinds(nil).ReadTable("tables/lans.csv", []byte(rows.String()))
		require.NoError(b, err)
		require.NoError(b, f.AddTables(t))
		return f
	}
	compiled := func(f *fleet.Fleet) *runbook.Runbook {
		rb, err := runbook.Parse("lans.runbook", book)
		require.NoError(b, err)
		require.NoError(b, rb.Compile(Schema(traits, f)))
		return rb
	}
	b.Run("read", func(b *testing.B) {
		for b.Loop() {
			read()
		}
	})
	f := read()
	rb := compiled(f)
	b.Run("check", func(b *testing.B) {
		for b.Loop() {
			_, _, err := Review(rb, f, traits)
			require.NoError(b, err)
		}
	})
	b.Run("plan", func(b *testing.B) {
		for b.Loop() {
			_, err := Make(rb, f, nil, traits, time.Now())
			require.NoError(b, err)
		}
	})
}
