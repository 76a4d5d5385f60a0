// Command reproductions runs the programs that reviewers wrote to show what was wrong, and reads in what they print
// whether it still is. It takes the directory of the reviews and the program: go run ./reproductions REVIEWS KNOTHOLE
// (in bench), and --show to see all that is printed. It ends with 1 when anything is wrong again, and when a
// reproduction did not get as far as to show anything.
package main

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"time"
)

// A reproduction is a script of a review, or one written out here where the review has only the words.
type reproduction struct {
	finding string
	// file is below the directory of the reviews; script is used when it is empty.
	file, script string
	// Each line that matches wrong shows the fault. Each of right has to match, or nothing was shown.
	wrong string
	right []string
}

// longest is the time after which a script is reported as hanging.
const longest = 5 * time.Minute

// result is what a reproduction came to.
type result struct {
	output string
	faults []string
	took   time.Duration
}

func (r *reproduction) run(reviews, program string) (*result, error) {
	folder, err := os.MkdirTemp("", "reproduction")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(folder)
	ctx, cancel := context.WithTimeout(context.Background(), longest)
	defer cancel()
	args := []string{filepath.Join(reviews, r.file)}
	if r.file == "" {
		args = []string{"-c", r.script}
	} else if _, err := os.Stat(args[0]); err != nil {
		return nil, err
	}
	c := exec.CommandContext(ctx, "bash", args...)
	c.Dir = folder
	source, err := filepath.Abs("..")
	if err != nil {
		return nil, err
	}
	c.Env = append(os.Environ(), "KN="+program, "SOURCE="+source, "REVIEWS="+reviews, "NO_COLOR=1",
		"XDG_CACHE_HOME="+filepath.Join(folder, ".cache"))
	begin := time.Now()
	output, _ := c.CombinedOutput() // the status of a script is that of its last command, and says nothing
	found := &result{output: string(output), took: time.Since(begin)}
	if ctx.Err() != nil {
		found.faults = append(found.faults, fmt.Sprintf("did not end within %v", longest))
	}
	wrong := regexp.MustCompile(cmp.Or(r.wrong, "$^") + "|bug in knothole|goroutine [0-9]+ \\[")
	for line := range strings.Lines(found.output) {
		if wrong.MatchString(line) {
			found.faults = append(found.faults, strings.TrimSpace(line))
		}
	}
	for _, right := range r.right {
		if !regexp.MustCompile("(?m)" + right).MatchString(found.output) {
			found.faults = append(found.faults, "nothing matches "+right)
		}
	}
	return found, nil
}

func main() {
	show := flag.Bool("show", false, "print all that the scripts print")
	only := flag.String("only", "", "run the findings that match this regular expression")
	flag.Parse()
	if flag.NArg() != 2 {
		fmt.Fprintln(os.Stderr, "name the directory of the reviews and the program")
		os.Exit(2)
	}
	program, err := filepath.Abs(flag.Arg(1))
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	reviews, err := filepath.Abs(flag.Arg(0))
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	os.Exit(runAll(reviews, program, regexp.MustCompile(*only), *show))
}

// runAll runs the reproductions whose findings are asked for, and returns the status.
func runAll(reviews, program string, only *regexp.Regexp, show bool) int {
	status, right := 0, 0
	for _, r := range reproductions {
		if !only.MatchString(r.finding) {
			continue
		}
		found, err := r.run(reviews, program)
		switch {
		case err != nil:
			fmt.Printf("%-14s not run: %v\n", r.finding, err)
			status = 1
			continue
		case len(found.faults) > 0:
			fmt.Printf("%-14s WRONG in %.1f s\n", r.finding, found.took.Seconds())
			for _, f := range found.faults {
				fmt.Printf("    %s\n", f)
			}
			status = 1
		default:
			fmt.Printf("%-14s right in %.1f s\n", r.finding, found.took.Seconds())
			right++
		}
		if show {
			fmt.Println(found.output)
		}
	}
	fmt.Printf("%d right\n", right)
	return status
}
