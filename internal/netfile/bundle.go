package netfile

import (
	"fmt"
	"maps"

	"hollowbridge/core/network"
)

// A Bundle is all that a network is made of: the text of its file, and of the lists that it
// names, by these names.
type Bundle struct {
	File  string            `json:"file"` // what errors call it
	Text  string            `json:"text"`
	Lists map[string]string `json:"lists"`
}

// Same reports whether two bundles hold the same, whatever errors call them; nil is none.
func (b *Bundle) Same(c *Bundle) bool {
	if b == nil || c == nil {
		return b == c
	}
	return b.Text == c.Text && maps.Equal(b.Lists, c.Lists)
}

// ReadBundle reads a network file and the lists it names, as Read.
func ReadBundle(path string) (*Bundle, *network.Network, error) {
	data, err := readBounded(path)
	if err != nil {
		return nil, nil, err
	}
	b := &Bundle{File: path, Text: string(data), Lists: map[string]string{}}
	r := newReader(path, data)
	fromFile := r.list
	r.list = func(name string) ([]byte, error) {
		text, err := fromFile(name)
		if err == nil {
			b.Lists[name] = string(text)
		}
		return text, err
	}
	n, err := r.read(r.parseYAML(data))
	return b, n, err
}

// Network returns the network of a bundle, or Errors. It reads no file.
func (b *Bundle) Network() (*network.Network, error) {
	size := len(b.Text)
	for _, text := range b.Lists {
		size += len(text)
	}
	if size > MostBytes {
		return nil, fmt.Errorf("%s: larger than %d MiB, which is more than this program reads", b.File, MostBytes>>20)
	}
	r := newReader(b.File, []byte(b.Text))
	r.list = func(name string) ([]byte, error) {
		text, ok := b.Lists[name]
		if !ok {
			return nil, fmt.Errorf("it did not come with the file")
		}
		return []byte(text), nil
	}
	return r.read(r.parseYAML([]byte(b.Text)))
}
