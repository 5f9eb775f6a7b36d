package plan

import (
	"slices"

	"metabasis/internal/core/record"
	"metabasis/internal/core/runbook"
)

// records is what of the runbook's recording a device's platform reads.
func (m *maker) records(t *Target) runbook.Recording {
	r := m.rb.Record
	reads := func(tables []string) []string {
		return slices.DeleteFunc(slices.Clone(tables), func(name string) bool {
			_, has := t.Traits.Tables[name]
			return !has && name != record.Config
		})
	}
	r.Tables, r.Compare = reads(r.Tables), reads(r.Compare)
	return r
}
