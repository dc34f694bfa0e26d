package reach

import "hollowbridge/core/header"

// What tests see of a namer.

type Named = named

func (n Named) Name() string          { return n.name }
func (n Named) Set() header.Addresses { return n.set }

func (m *Namer) Names() []Named { return m.names }

func (m *Namer) Hosts() []Named {
	var list []Named
	for _, h := range m.hosts {
		list = append(list, h)
	}
	return list
}

func (m *Namer) Everybody() header.Addresses { return m.internet }
func (m *Namer) Unused() header.Addresses    { return m.unused }

var FamiliesOf = familiesOf
