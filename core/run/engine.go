package run

import (
	"path"
	"slices"
	"strconv"
	"strings"

	"tidytally/core/tallyfile"
	"tidytally/core/task"
)

// An engine is a batch system: it takes jobs, runs them when and where it sees fit, and forgets them some time after. What the engine itself
// prints is taken for hostile. Another engine is a file with these methods, and a line in engines.
type engine interface {
	// submit hands an array of jobs over, and returns the engine's id of it.
	submit(s submission) (id string, err error)
	// queue returns what the engine says of all jobs of this user that it has.
	queue() (map[element]jobStatus, error)
	// cancel ends whole arrays, by their ids, and single jobs.
	cancel(arrays []string, single []element) error
	// find returns the id of an array by its name; "" if the engine does not know it.
	find(name string) (id string, err error)
	// fate says in the engine's words how a job ended that is no longer in the queue: its state, and why; "" where that is not
	// known.
	fate(e element) (state, reason string)
	// index is the variable that has the index of a job in its array, from 0.
	index() string
	// largest is the number of jobs that an array may have.
	largest() int
}

// engines are the batch systems that are known, by the name of the command that hands jobs over.
var engines = map[string]engine{
	"sbatch": slurm{},
}

// engineOf returns the batch system to which tasks of a place are handed over; nil for a place where they just run.
func engineOf(p *tallyfile.Place) engine { return engines[path.Base(p.Command.Words()[0])] }

// submission is an array of jobs that is handed over.
type submission struct {
	command task.Command              // that hands over, with the user's own options
	name    string                    // of the array
	script  string                    // the file that each job runs with sh(1)
	output  func(index string) string // the file for the engine's own words about a job; index is how the engine writes that
	jobs    int
	atOnce  int // jobs that may run at once; 0 for any number
	after   *dependency
}

// element is one job of an array.
type element struct {
	array string
	index int
}

func (e element) String() string { return e.array + "_" + strconv.Itoa(e.index) }

// jobStatus is what an engine says of a job that it has.
type jobStatus struct {
	state string // in the engine's words
	why   string // it does not run yet, in the engine's words
	node  string // where it runs
}

// dependency is what an array waits for: jobs of arrays that were handed over before.
type dependency struct {
	whatever bool             // they need not end well
	on       map[*array][]int // the jobs; all of them if there are as many
}

// key is the same for arrays that wait for the same.
func (d *dependency) key() string {
	var ids []string
	for a, jobs := range d.on {
		if len(jobs) == len(a.Steps) {
			ids = append(ids, a.ID)
			continue
		}
		for _, i := range jobs {
			ids = append(ids, element{a.ID, i}.String())
		}
	}
	slices.Sort(ids)
	return strconv.FormatBool(d.whatever) + strings.Join(ids, ":")
}
