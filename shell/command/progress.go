package command

import (
	"fmt"
	"sync/atomic"
	"time"

	"github.com/schollz/progressbar/v3"
)

// progress shows how much is done when it takes longer than a moment, on a terminal. The nil progress shows nothing.
type progress struct {
	done atomic.Int64
	quit chan bool
	gone chan bool
}

// progressDelay is how long a run takes before it shows that it goes on.
const progressDelay = time.Second

func (c *call) progress(what string) *progress {
	if !c.errTerminal || c.quiet {
		return nil
	}
	p := &progress{quit: make(chan bool), gone: make(chan bool)}
	go func() {
		defer close(p.gone)
		select {
		case <-p.quit:
			return
		case <-time.After(progressDelay):
		}
		bar := progressbar.NewOptions64(-1, progressbar.OptionSetWriter(c.err), progressbar.OptionClearOnFinish(), progressbar.OptionUseANSICodes(true),
			progressbar.OptionSpinnerType(9), progressbar.OptionSetRenderBlankState(true))
		for {
			// How many there will be is known only when the last is.
			bar.Describe(fmt.Sprintf("%s: %d documents", what, p.done.Load()))
			select {
			case <-p.quit:
				_ = bar.Finish()
				return
			case <-time.After(progressDelay / 10):
			}
		}
	}()
	return p
}

// add counts one document.
func (p *progress) add() {
	if p != nil {
		p.done.Add(1)
	}
}

// stop takes the bar away.
func (p *progress) stop() {
	if p != nil {
		close(p.quit)
		<-p.gone
	}
}
