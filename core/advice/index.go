package advice

import (
	"net/netip"
	"slices"

	"hollowbridge/core/header"
)

// An index finds rules by the ports and the addresses that they are about, each by its number. Of many rules
// few have a port and an address in common, whether they share the port or the address.
type index struct {
	count   int
	exact   map[exactEnd][]int       // those about few ports of few addresses
	ports   map[header.Service][]int // about few ports, of any addresses
	open    map[header.Service][]int // about few ports, of many addresses
	at      map[netip.Addr][]int     // about any ports of few addresses
	wideAt  map[netip.Addr][]int     // about many ports of few addresses
	wide    []int                    // about many ports of any addresses
	broad   []int                    // about any ports of many addresses
	anybody []int                    // about many ports of many addresses
}

type exactEnd struct {
	port header.Service
	at   netip.Addr
}

func newIndex() *index {
	return &index{
		exact: map[exactEnd][]int{}, ports: map[header.Service][]int{}, open: map[header.Service][]int{},
		at: map[netip.Addr][]int{}, wideAt: map[netip.Addr][]int{},
	}
}

// mostFew is how many ports or addresses are looked at one by one.
const mostFew = 16

// fewAddresses returns each address of a set, where they are few.
func fewAddresses(set header.Addresses) (list []netip.Addr, few bool) {
	if set.Size().Exceeds(mostFew) {
		return nil, false
	}
	for _, r := range set.Ranges() {
		for a := r.First; ; a = a.Next() {
			if list = append(list, a); a == r.Last {
				break
			}
		}
	}
	return list, true
}

// add adds a rule behind the others; ports are nil where they are many.
func (x *index) add(ports []header.Service, at header.Addresses) {
	n := x.count
	x.count++
	addresses, few := fewAddresses(at)
	if ports == nil {
		x.wide = append(x.wide, n)
	}
	if !few {
		x.broad = append(x.broad, n)
		if ports == nil {
			x.anybody = append(x.anybody, n)
		}
	}
	for _, a := range addresses {
		x.at[a] = append(x.at[a], n)
		if ports == nil {
			x.wideAt[a] = append(x.wideAt[a], n)
		}
		for _, port := range ports {
			x.exact[exactEnd{port, a}] = append(x.exact[exactEnd{port, a}], n)
		}
	}
	for _, port := range ports {
		x.ports[port] = append(x.ports[port], n)
		if !few {
			x.open[port] = append(x.open[port], n)
		}
	}
}

// near returns, in their order, the rules that may have a port and an address in common with one; ports are
// nil where they are many.
func (x *index) near(ports []header.Service, at header.Addresses) (numbers []int) {
	addresses, few := fewAddresses(at)
	switch {
	case ports == nil && !few:
		for n := range x.count {
			numbers = append(numbers, n)
		}
		return numbers
	case ports == nil:
		numbers = append(numbers, x.broad...)
		for _, a := range addresses {
			numbers = append(numbers, x.at[a]...)
		}
	case !few:
		numbers = append(numbers, x.wide...)
		for _, port := range ports {
			numbers = append(numbers, x.ports[port]...)
		}
	default:
		numbers = append(numbers, x.anybody...)
		for _, a := range addresses {
			numbers = append(numbers, x.wideAt[a]...)
			for _, port := range ports {
				numbers = append(numbers, x.exact[exactEnd{port, a}]...)
			}
		}
		for _, port := range ports {
			numbers = append(numbers, x.open[port]...)
		}
	}
	slices.Sort(numbers)
	return slices.Compact(numbers)
}
