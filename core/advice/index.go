package advice

import (
	"net/netip"
	"slices"

	"hollowbridge/core/header"
)

// An index finds rules by the ports and the addresses that they are about, each by its number. Of many rules
// few have a port and an address in common, whether they share the port or the address.
type index struct {
	count int
	exact map[exactEnd][]int       // of those about few ports of few addresses
	open  map[header.Service][]int // of those about few ports of many addresses
	ports map[header.Service][]int // of both
	wide  []int                    // of those about many ports
}

type exactEnd struct {
	port header.Service
	at   netip.Addr
}

func newIndex() *index {
	return &index{exact: map[exactEnd][]int{}, open: map[header.Service][]int{}, ports: map[header.Service][]int{}}
}

// mostFew is how many ports or addresses are looked at one by one.
const mostFew = 16

// fewAddresses returns each address of a set, where they are few.
func fewAddresses(set header.Addresses) (list []netip.Addr, few bool) {
	if set.Size() > mostFew {
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
	if ports == nil {
		x.wide = append(x.wide, n)
		return
	}
	addresses, few := fewAddresses(at)
	for _, port := range ports {
		x.ports[port] = append(x.ports[port], n)
		if !few {
			x.open[port] = append(x.open[port], n)
		}
		for _, a := range addresses {
			x.exact[exactEnd{port, a}] = append(x.exact[exactEnd{port, a}], n)
		}
	}
}

// near returns, in their order, the rules that may have a port and an address in common with one; ports are
// nil where they are many.
func (x *index) near(ports []header.Service, at header.Addresses) (numbers []int) {
	if ports == nil {
		for n := range x.count {
			numbers = append(numbers, n)
		}
		return numbers
	}
	numbers = slices.Clone(x.wide)
	addresses, few := fewAddresses(at)
	for _, port := range ports {
		if !few {
			numbers = append(numbers, x.ports[port]...)
			continue
		}
		numbers = append(numbers, x.open[port]...)
		for _, a := range addresses {
			numbers = append(numbers, x.exact[exactEnd{port, a}]...)
		}
	}
	slices.Sort(numbers)
	return slices.Compact(numbers)
}
