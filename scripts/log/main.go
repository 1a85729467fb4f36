// Command log writes a build log of about as many MiB as its argument says to
// standard output, one line in twenty of it a problem.
package main

import (
	"fmt"
	"os"
	"strconv"

	"tidytally/core/sieve/buildlog"
)

func main() {
	if len(os.Args) == 2 {
		if n, err := strconv.Atoi(os.Args[1]); err == nil {
			if err := buildlog.Write(os.Stdout, n<<20, 5); err != nil {
				fmt.Fprintln(os.Stderr, err)
				os.Exit(1)
			}
			return
		}
	}
	fmt.Fprintln(os.Stderr, "usage: log MEBIBYTES")
	os.Exit(2)
}
