// Package buildlog makes build logs to measure with.
package buildlog

import (
	"bufio"
	"fmt"
	"io"
	"math/rand"
)

// Write writes a build log of about n bytes, the same each time, in which share
// of a hundred lines are problems. The error is that of w.
func Write(w io.Writer, n, share int) error {
	random := rand.New(rand.NewSource(7))
	b := bufio.NewWriterSize(w, 1<<20)
	for i, done := 0, 0; done < n; i++ {
		var k int
		if random.Intn(100) < share {
			k, _ = fmt.Fprintf(b, "src/mod%d/file%d.c:%d:%d: warning: unused variable 'x%d' [-Wunused-variable]\n", i%991, i, random.Intn(3000)+1, random.Intn(90)+1, random.Intn(9999))
			done += k
			continue
		}
		switch i % 4 {
		case 0:
			k, _ = fmt.Fprintf(b, "gcc -O2 -Wall -Iinclude -c -o build/obj/file%d.o src/mod/file%d.c\n", i, i)
		case 1:
			k, _ = fmt.Fprintf(b, "[%3d%%] Building C object CMakeFiles/app.dir/src/file%d.c.o\n", i%100, i)
		case 2:
			k, _ = fmt.Fprintf(b, "  CC      drivers/net/ethernet/file%d.o\n", i)
		default:
			k, _ = fmt.Fprintf(b, "2026-11-25 02:00:%02d INFO worker %d: processed %d items in %d ms\n", i%60, i%7, i%1000, i%333)
		}
		done += k
	}
	return b.Flush()
}
