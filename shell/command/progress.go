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

// progress begins to count documents. Total is how many there will be; 0 when that is known only when the last is done.
func (c *call) progress(what string, total int) *progress {
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
		options := []progressbar.Option{progressbar.OptionSetWriter(c.system.err), progressbar.OptionClearOnFinish(),
			progressbar.OptionUseANSICodes(true), progressbar.OptionSetRenderBlankState(true)}
		most := int64(total)
		if total == 0 {
			most, options = -1, append(options, progressbar.OptionSpinnerType(9))
		} else {
			options = append(options, progressbar.OptionSetWidth(40), progressbar.OptionSetPredictTime(false),
				progressbar.OptionSetDescription(what))
		}
		bar := progressbar.NewOptions64(most, options...)
		for {
			if done := p.done.Load(); total == 0 {
				bar.Describe(fmt.Sprintf("%s: %d documents", what, done))
			} else {
				_ = bar.Set64(min(done, most-1)) // a full bar would be gone
			}
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
