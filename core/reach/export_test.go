package reach

import "hollowbridge/core/header"

// What tests see of a namer.

func (n named) Name() string          { return n.name }
func (n named) Set() header.Addresses { return n.set }

func (m *Namer) Names() []named { return m.names }

func (m *Namer) Hosts() []named {
	var list []named
	for _, h := range m.hosts {
		list = append(list, h)
	}
	return list
}

func (m *Namer) Everybody() header.Addresses { return m.internet }
func (m *Namer) Unused() header.Addresses    { return m.unused }

var FamiliesOf = familiesOf

// Looked returns how many addresses and names were looked at to name sets.
func (m *Namer) Looked() int { return m.looked }

// Own reports whether a difference is of a next hop that gets there with its own address before and after.
func (d *Difference) Own() bool { return d.own }
