package portmap

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"hollowbridge/core/network"
	"hollowbridge/internal/portmap/igd"
	"hollowbridge/internal/portmap/ssdp"
)

// maxAge is how long an announcement of the device holds, in seconds (UPnP Device Architecture,
// 1.2.2: at least 1800). It is announced again well before.
const maxAge = 1800

// An advertised part is the device, a part of it or a service, by what it is searched for.
type advertised struct {
	target, name string
	version      int // of the device that it belongs to: 1 or 2
}

// advertised lists what is announced: the device as one of version 2, and what of version 1 is
// called otherwise, for those who know only that.
func (v *Server) advertised() []advertised {
	d := v.deviceOf()
	name := func(part int, target string) string { return "uuid:" + d.PartUUID(part) + "::" + target }
	list := []advertised{{ssdp.RootDevice, name(0, ssdp.RootDevice), 2}}
	for part := range 3 {
		list = append(list, advertised{"uuid:" + d.PartUUID(part), "uuid:" + d.PartUUID(part), 2})
	}
	for version := 2; version >= 1; version-- {
		for part, kind := range []string{igd.GatewayDevice, igd.WANDevice, igd.WANConnectionDevice} {
			target := igd.DeviceType(kind, version)
			list = append(list, advertised{target, name(part, target), version})
		}
		for _, s := range igd.Services {
			n := s.Versions[version-1]
			if n == 0 || version == 1 && n == s.Versions[1] {
				continue
			}
			part := 2
			switch s.Kind {
			case igd.Layer3Forwarding:
				part = 0
			case igd.WANCommonInterfaceConfig:
				part = 1
			}
			target := igd.ServiceType(s.Kind, n)
			list = append(list, advertised{target, name(part, target), version})
		}
	}
	return list
}

// advert says where the description of something that is announced is.
func (v *Server) advert(p *point, a advertised) ssdp.Advert {
	return ssdp.Advert{
		Target: a.target, Name: a.name, Location: v.base(p) + igd.DevicePaths[a.version-1], Server: systemText() + " UPnP/1.1 hollowbridge/" + strings.ReplaceAll(cmp.Or(v.options.Program, "1"), " ", "-"),
		MaxAge: maxAge, Boot: v.boot,
	}
}

// systemText is the system and its version, as 1.2.2 wants it.
var systemText = sync.OnceValue(func() string {
	var name unix.Utsname
	if unix.Uname(&name) != nil {
		return "Linux/0"
	}
	return "Linux/" + strings.ReplaceAll(unix.ByteSliceToString(name.Release[:]), " ", "-")
})

// base is the URL at which the device is called.
func (v *Server) base(p *point) string {
	return "http://" + netip.AddrPortFrom(p.address, v.options.Ports.HTTP).String()
}

// notify announces all of the device on a point. Whoever calls holds the mutex.
func (v *Server) notify(p *point, kind string) {
	group := netip.AddrPortFrom(p.groupAddress(), v.options.Ports.SSDP)
	for _, a := range v.advertised() {
		advert := v.advert(p, a)
		advert.NextBoot = advert.Boot + 1
		say(p.search, datagram{peer: group, data: advert.AppendNotify(nil, kind, group.String())}) // it is said again
	}
}

// updated says on all points that the device goes on under another number (1.2.4). Whoever calls
// holds the mutex.
func (v *Server) updated() {
	for _, p := range v.listeners.points {
		if p.search != nil {
			v.notify(p, ssdp.Update)
		}
	}
	v.boot++
}

// serveSearches answers searches that come to a socket, until that is closed, and on the one for
// everybody announces the device now and then.
func (v *Server) serveSearches(p *point, conn *net.UDPConn) {
	if conn == p.group {
		v.working.Go(func() { v.keepAnnouncing(p) })
	}
	data := make([]byte, ssdp.MostSize+1)
	for {
		n, from, err := conn.ReadFromUDPAddrPort(data)
		if err != nil {
			if v.isClosed(p, err) {
				return
			}
			continue
		}
		s, err := ssdp.ParseSearch(data[:n])
		if err != nil {
			continue
		}
		if conn == p.group && s.Wait == 0 { // to all it says how long they have (1.3.2)
			continue
		}
		v.answerSearch(p, s, netip.AddrPortFrom(from.Addr().Unmap().WithZone(""), from.Port()))
	}
}

// mostAnswering is how many searches are answered at a time; answers to more are left out.
const mostAnswering = 64

// answerSearch answers a search of somebody inside, after a while that is chosen at random so that
// not all devices answer at once.
func (v *Server) answerSearch(p *point, s ssdp.Search, from netip.AddrPort) {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	if v.setting == nil || !from.Addr().IsLinkLocalUnicast() && !v.isInside(v.real(from.Addr())) || !v.limits.allows(from.Addr(), v.now()) || v.events.answering.Load() >= mostAnswering {
		return
	}
	var answers [][]byte
	for _, a := range v.advertised() {
		if s.Target == ssdp.All || s.Target == a.target {
			advert := v.advert(p, a)
			answers = append(answers, advert.AppendResponse(nil))
		}
	}
	if len(answers) == 0 {
		return
	}
	v.events.answering.Add(1)
	wait := time.Duration(0)
	if s.Wait > 0 {
		wait = rand.N(min(time.Duration(s.Wait)*time.Second, time.Second) / 2)
	}
	v.working.Go(func() {
		defer v.events.answering.Add(-1)
		select {
		case <-p.closed:
			return
		case <-time.After(wait):
		}
		for _, data := range answers {
			say(p.search, datagram{peer: from, data: data}) // who was not answered searches again
		}
	})
}

// keepAnnouncing says that the device is there, until the point is closed.
func (v *Server) keepAnnouncing(p *point) {
	waits := []time.Duration{0, 200 * time.Millisecond, time.Second} // it may get lost (1.2.2)
	for {
		wait := maxAge * time.Second / 3
		if len(waits) > 0 {
			wait, waits = waits[0], waits[1:]
		}
		select {
		case <-p.closed:
			return
		case <-time.After(wait):
		}
		v.mutex.Lock()
		if v.setting != nil && slices.Contains(v.listeners.points, p) {
			v.notify(p, ssdp.Alive)
		}
		v.mutex.Unlock()
	}
}

// speaksIGD reports whether a point is one of a UPnP device.
func (v *Server) speaksIGD() bool {
	return v.setting != nil && v.setting.policy.Speaks(network.IGD)
}

func (v *Server) deviceOf() *igd.Device {
	return &igd.Device{UUID: uuidOf(v.options.Gateway), Name: fmt.Sprintf("%s (hollowbridge)", v.options.Gateway), Serial: v.options.Gateway}
}
