package tui

import (
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/run"
)

// offerActions lists the keys that apply to the chosen row now.
func (m *Model) offerActions() tea.Cmd {
	var all []answer
	taken := map[string]bool{}
	for _, k := range m.allKeys() {
		if !k.ofRow || k.act == nil || !k.applies() || taken[k.names[0]] {
			continue
		}
		taken[k.names[0]] = true
		what, _, _ := strings.Cut(strings.TrimSuffix(k.help, ", and back"), ";")
		all = append(all, answer{what, k.names[0], k.act})
	}
	if len(all) == 0 {
		m.say(false, "no row is chosen here; ? shows all keys")
		return nil
	}
	cmd := m.askAmong("With "+m.rowName(), all)
	m.choice.keyed = true
	return cmd
}

// rowName names the chosen row of the page in front.
func (m *Model) rowName() string {
	if p, ok := m.at.(interface{ rowName() string }); ok {
		if name := p.rowName(); name != "" {
			return name
		}
	}
	if r := m.of(); r != nil {
		return shortID(r.Prepared.Task)
	}
	return "this row"
}

// applies reports whether the key does something now.
func (k *key) applies() bool { return k.when == nil || k.when() }

// isRunning reports whether the run that the page is about goes on.
func (d *desk) isRunning() bool {
	r := d.of()
	return r != nil && !r.Snapshot().State.Ended()
}

// hasAddress reports whether the run that the page is about has told an address.
func (d *desk) hasAddress() bool {
	r := d.of()
	return r != nil && r.Snapshot().Address != ""
}

// severalRun reports whether there are several outputs to see together.
func (d *desk) severalRun() bool {
	r := d.of()
	return len(d.active()) > 1 || r != nil && r.Job() != nil && len(r.Job().Steps) > 1
}

// waitsForASlot reports whether a step of the run that the page is about waits for one.
func (d *desk) waitsForASlot() bool {
	r := d.of()
	return r != nil && r.Job() != nil && slices.ContainsFunc(r.Job().Steps, func(r *run.Run) bool { return r.WaitsForASlot() })
}

// ranSome reports whether there is a run whose output and problems can be shown.
func (d *desk) ranSome() bool {
	return d.run != nil || d.task != nil && (d.lastOfChosen() != nil || d.lastOf(d.task) != nil)
}

// someFailed reports whether files of the suite that the page is about failed when they ran last.
func (d *desk) someFailed() bool {
	t := d.suite()
	return t != nil && len(d.kept.Suites[t.ID()].Failed) > 0
}
