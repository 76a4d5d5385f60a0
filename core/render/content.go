package render

import (
	"crypto/sha256"
	"encoding/binary"
	"math"
	"sync"

	"knothole/core/value"
)

// contents are pieces of memory to write contents into, which are too many to be made anew each time.
var contents = sync.Pool{New: func() any { return new([]byte) }}

// Content returns a digest (SHA-256) of all that the text of the document depends on: its value, its format and the
// header above it. Documents with the same content have the same text.
func (d *Document) Content(header string) [sha256.Size]byte {
	v := d.Value
	if d.Open {
		v = value.WithPlaceholders(v)
	}
	piece := contents.Get().(*[]byte)
	b := appendText((*piece)[:0], header)
	b = appendText(b, string(d.Format))
	b = append(b, byte(0))
	if d.Stream {
		b[len(b)-1] = 1
	}
	b = appendContent(b, v)
	digest := sha256.Sum256(b)
	*piece = b
	contents.Put(piece)
	return digest
}

func appendText(b []byte, s string) []byte {
	return append(binary.AppendUvarint(b, uint64(len(s))), s...)
}

// appendContent writes a value so that no other is written in the same way: each part begins with its kind and, where
// it has no end of its own, with its length.
func appendContent(b []byte, v value.Value) []byte {
	b = append(b, byte(v.Kind()))
	switch v.Kind() {
	case value.Bool:
		if v.Bool() {
			return append(b, 1)
		}
		return append(b, 0)
	case value.Int:
		return binary.AppendVarint(b, v.Int())
	case value.Float:
		return binary.BigEndian.AppendUint64(b, math.Float64bits(v.Float()))
	case value.String:
		return appendText(b, v.Text())
	case value.List:
		b = binary.AppendUvarint(b, uint64(v.Len()))
		for _, x := range v.Elements() {
			b = appendContent(b, x)
		}
	case value.Record:
		b = binary.AppendUvarint(b, uint64(v.Len()))
		for i, key := range v.Shape().Keys() {
			b = appendContent(appendText(b, key), v.Values()[i])
		}
	}
	return b
}
