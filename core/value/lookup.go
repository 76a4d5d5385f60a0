package value

import "sync/atomic"

// Lookup gets the entry of one key from many records. It remembers where the key is in records of a shape, since those
// made at one place have the same. Several goroutines may use it.
type Lookup struct {
	key    string
	last   atomic.Pointer[position]
	misses atomic.Int32
}

// position is where a key is in records of a shape; -1 for nowhere.
type position struct {
	shape *Shape
	index int
}

// maxMisses is how often a Lookup remembers another shape: records that came from data have one each.
const maxMisses = 64

// NewLookup returns what gets the entries of a key.
func NewLookup(key string) *Lookup { return &Lookup{key: key} }

// Get returns the entry of a record; it is Absent when there is none.
func (l *Lookup) Get(v Value) Value {
	r := v.record()
	at := l.last.Load()
	if at == nil || at.shape != r.shape {
		index := r.shape.Index(l.key)
		if l.misses.Load() < maxMisses {
			l.misses.Add(1)
			l.last.Store(&position{r.shape, index})
		}
		if index < 0 {
			return Value{}
		}
		return r.values[index]
	}
	if at.index < 0 {
		return Value{}
	}
	return r.values[at.index]
}
