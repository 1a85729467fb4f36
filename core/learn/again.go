package learn

import (
	"bytes"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tidytally/core/files"
)

// What is known of a task lasts beyond the run that was watched: a later good run that was not watched renews it where the
// list of what it reads can be trusted, and a watched one that did only a part of the work adds to it.

// watchAgain is the remedy where not all is known of what a run reads.
const watchAgain = "; watch one that makes all anew, or each: learn = true"

// maxTries bounds the runs that failed of which the times are kept.
const maxTries = 50

// AfterFailed returns what is known after a run that failed, as After does after a good one.
func (k *Known) AfterFailed(set Setting, started time.Time) *Known {
	if k.Never != "" || k.Unsure != "" || len(k.Setting.differs(set)) > 0 {
		return k
	}
	next := *k
	next.Tries = append(slices.Clone(k.Tries[max(0, len(k.Tries)+1-maxTries):]), Try{started, time.Now()})
	return &next
}

// madeBy reports whether a file with a time of its last change was made by one of the runs with the setting of k.
func (k *Known) madeBy(changed int64) bool {
	return slices.ContainsFunc(k.Tries, func(t Try) bool {
		return changed >= t.Started.Add(-grain).UnixNano() && changed <= t.Ended.Add(grain).UnixNano()
	})
}

// After returns what is known after a good run with the same setting that was not watched and started at a time, right after
// its end; k if the setting is another one. Where a change may have made it read other files than
// before, the result is not sure.
func (k *Known) After(root string, set Setting, started time.Time) *Known {
	if k.Never != "" || k.Unsure != "" || len(k.Setting.differs(set)) > 0 {
		return k
	}
	next := *k
	next.Stamps = append([]Stamp(nil), k.Stamps...)
	next.Started, next.Ended, next.Run = started, time.Now(), 0
	next.Tries = append(slices.Clone(k.Tries), Try{started, next.Ended})
	var sources []int // that have other content, and the same references
	newest, whole := int64(0), true
	for i := range next.Stamps {
		s := &next.Stamps[i]
		reason := s.State(root)
		if reason == "" && s.Role != Made {
			continue
		}
		name := s.full(root)
		now := *s
		now.look(name, s.Hash != 0)
		switch {
		case s.Role == Made && now.Size >= 0 && (reason == "" || next.madeBy(now.Time)):
			newest, whole = max(newest, now.Time), whole && now.Time >= started.Add(-grain).UnixNano()
		case s.Role == Read && now.Hash == s.Hash && now.Size == s.Size && s.Hash != 0: // it has another time
		case (s.Role == Read || s.Role == Missing) && keptByBuild(s.Path) && now.Time >= started.Add(-grain).UnixNano():
			now.Role = Made // the run has written it
		case s.Role == Read && s.References != 0 && s.References == referencesIn(name):
			sources = append(sources, i)
			if now.Time >= started.Add(grain).UnixNano() {
				now.Hash = changedMeanwhile
			}
		default:
			if next.Unsure = reason + " before its last good run, which was not watched" + watchAgain; s.References != 0 {
				next.Doubt = s.Path
			}
			return &next
		}
		*s = now
	}
	next.Tries = nil
	runsMade := len(sources) > 0 && k.runsMade()
	for _, i := range sources {
		switch s := &next.Stamps[i]; {
		case runsMade:
			next.Unsure = s.Path + " changed before its last good run, which was not watched and executes what it makes" + watchAgain
			return &next
		case s.Hash == changedMeanwhile || whole || newest >= s.Time && next.buildLooksAt(s, root):
		default:
			next.Unsure = fmt.Sprintf("%s changed, and its last good run, which was not watched, may have left out what hangs on it%s", s.Path, watchAgain)
			next.Doubt = s.Path
			return &next
		}
	}
	return &next
}

// maxDepfile bounds the size in bytes of a file in which a build notes what hangs on what.
const maxDepfile = 16 << 20

// buildLooksAt reports whether the build looks at a source before it decides what to make anew.
func (k *Known) buildLooksAt(source *Stamp, root string) bool {
	if source.Times || path.Ext(source.Path) == ".go" { // the go command opens each file anew
		return true
	}
	base := []byte(path.Base(source.Path))
	for i := range k.Stamps {
		s := &k.Stamps[i]
		if s.Role != Made || path.Ext(s.Path) != ".d" && path.Base(s.Path) != "compiler_depend.make" && path.Base(s.Path) != ".ninja_deps" {
			continue
		}
		text, err := files.Read(s.full(root), maxDepfile)
		if err != nil {
			continue
		}
		for at := bytes.Index(text, base); at >= 0; at = bytes.Index(text, base) {
			before, after := text[:at], text[at+len(base):]
			if (at == 0 || !inName(before[at-1])) && (len(after) == 0 || !inName(after[0])) {
				return true
			}
			text = after
		}
	}
	return false
}

func inName(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte("._-+", c) >= 0
}

// runsMade reports whether a run executes what it or an earlier one made.
func (k *Known) runsMade() bool {
	made := map[string]bool{}
	for i := range k.Stamps {
		if s := &k.Stamps[i]; s.Role == Made {
			made[s.Path] = true
		}
	}
	for i := range k.Stamps {
		if s := &k.Stamps[i]; s.Role == Runs && made[s.Path] {
			return true
		}
	}
	return k.RunsMade
}

// Including returns k, of a watched run, with what was known before of a run with the same setting: unless k's run has made anew all
// that it makes, it may have done a part of the work. What has changed since, and k's run did not look at, stays as it
// was before.
func (k *Known) Including(before *Known, root string) *Known {
	if before == nil || before.Origin != k.Origin || len(before.Setting.differs(k.Setting)) > 0 {
		return k
	}
	type use struct {
		path string
		role Role
	}
	has, made, whole := map[use]int{}, 0, true
	for i := range k.Stamps {
		has[use{k.Stamps[i].Path, k.Stamps[i].Role}] = i + 1
	}
	for i := range before.Stamps {
		if s := &before.Stamps[i]; s.Role == Made && !keptByBuild(s.Path) {
			made++
			whole = whole && has[use{s.Path, Made}] > 0
		}
	}
	if made > 0 && whole {
		return k
	}
	if k.RunsMade = k.RunsMade || before.RunsMade; made > 0 && !k.compiled[before.Doubt] {
		k.Unsure, k.Doubt = before.Unsure, before.Doubt
	}
	for i := range before.Stamps {
		s := before.Stamps[i]
		if at := has[use{s.Path, Read}]; at > 0 && s.Role == Made { // this time it was only looked at
			has[use{s.Path, Made}] = at
			k.Stamps[at-1].Role, k.Stamps[at-1].References = Made, 0
			continue
		}
		if at := has[use{s.Path, s.Role}]; at > 0 {
			k.Stamps[at-1].Times = k.Stamps[at-1].Times || s.Times
			if s.References == 0 {
				k.Stamps[at-1].References = 0
			}
			continue
		}
		if s.Role == Read && has[use{s.Path, Made}] > 0 || s.Role == Missing && has[use{s.Path, Read}] > 0 || len(k.Stamps) >= maxStamps {
			continue
		}
		if reason := s.State(root); reason != "" {
			name := s.full(root)
			now := s
			switch now.look(name, s.Hash != 0); {
			case s.Role == Made && now.Size < 0:
				continue // it is made no longer
			case now.Size < 0:
				now.Role = Missing // it is needed no longer
			case s.Role == Made, s.Role == Listed, s.Role == Missing, s.Role == Removed, now.Hash == s.Hash && s.Hash != 0 && now.Size == s.Size:
			default:
				now = s
			}
			if s = now; s.Role == Missing && s.Size >= 0 || s.Role == Removed && s.Size >= 0 {
				continue
			}
		}
		k.Stamps = append(k.Stamps, s)
	}
	return k
}

// full returns the absolute path.
func (s *Stamp) full(root string) string {
	if filepath.IsAbs(s.Path) {
		return s.Path
	}
	return filepath.Join(root, filepath.FromSlash(s.Path))
}
