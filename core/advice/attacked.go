package advice

import (
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// An attackedService is one that is found and tried within hours wherever everybody can reach it.
// Port and name are those that IANA registered (Service Name and Transport Protocol Port Number
// Registry), but where the service is commonly found at another port, which then has no name.
type attackedService struct {
	protocol    header.Protocol
	first, last uint16 // ports
	kind        network.FindingKind
	reason      string // of this one, behind its name
}

// attacked are the services that are attacked most.
var attacked = []attackedService{
	// Remote administration and remote desktops: passwords are guessed day and night.
	{header.TCP, 22, 22, network.AdministrationOpen, "passwords are guessed day and night"},
	{header.TCP, 23, 23, network.AdministrationOpen, "passwords are guessed day and night, and it is clear text"},
	{header.TCP, 3389, 3389, network.AdministrationOpen, "a remote desktop"},
	{header.UDP, 3389, 3389, network.AdministrationOpen, "a remote desktop"},
	{header.TCP, 5900, 5909, network.AdministrationOpen, "a remote desktop, often with a short password"},
	{header.TCP, 5985, 5986, network.AdministrationOpen, "remote administration"},
	{header.TCP, 512, 514, network.AdministrationOpen, "a remote shell that trusts names"},
	{header.UDP, 623, 623, network.AdministrationOpen, "administration below the operating system"},
	{header.TCP, 10000, 10000, network.AdministrationOpen, "commonly an administration page"},
	{header.TCP, 135, 135, network.AdministrationOpen, "remote procedure calls of the operating system"},
	{header.TCP, 2375, 2376, network.AdministrationOpen, "whoever reaches it runs programs as root"},

	// Databases: seldom meant for the internet, and often without a password.
	{header.TCP, 1433, 1433, network.DatabaseOpen, "a database"},
	{header.UDP, 1434, 1434, network.DatabaseOpen, "says where databases are"},
	{header.TCP, 1521, 1521, network.DatabaseOpen, "a database"},
	{header.TCP, 3306, 3306, network.DatabaseOpen, "a database"},
	{header.TCP, 5432, 5432, network.DatabaseOpen, "a database"},
	{header.TCP, 6379, 6379, network.DatabaseOpen, "a database that often asks for no password"},
	{header.TCP, 9200, 9200, network.DatabaseOpen, "a database that often asks for no password"},
	{header.TCP, 27017, 27017, network.DatabaseOpen, "a database that often asks for no password"},
	{header.TCP, 5984, 5984, network.DatabaseOpen, "a database"},
	{header.TCP, 389, 389, network.DatabaseOpen, "a directory of people, in clear text"},

	// File sharing: worms come this way.
	{header.TCP, 139, 139, network.FileSharingOpen, "file sharing, which worms come by"},
	{header.TCP, 445, 445, network.FileSharingOpen, "file sharing, which worms come by"},
	{header.UDP, 137, 138, network.FileSharingOpen, "names and announcements of file sharing"},
	{header.TCP, 2049, 2049, network.FileSharingOpen, "file sharing that trusts addresses"},
	{header.UDP, 2049, 2049, network.FileSharingOpen, "file sharing that trusts addresses"},
	{header.TCP, 548, 548, network.FileSharingOpen, "file sharing"},
	{header.TCP, 873, 873, network.FileSharingOpen, "file copying, often without a password"},
	{header.UDP, 69, 69, network.FileSharingOpen, "gives files to whoever asks"},

	// Industrial control: these protocols know no password.
	{header.TCP, 102, 102, network.ControlOpen, "machines obey whoever reaches it"},
	{header.TCP, 502, 502, network.ControlOpen, "machines obey whoever reaches it"},
	{header.TCP, 2404, 2404, network.ControlOpen, "machines obey whoever reaches it"},
	{header.TCP, 20000, 20000, network.ControlOpen, "machines obey whoever reaches it"},
	{header.UDP, 20000, 20000, network.ControlOpen, "machines obey whoever reaches it"},
	{header.TCP, 44818, 44818, network.ControlOpen, "machines obey whoever reaches it"},
	{header.UDP, 47808, 47808, network.ControlOpen, "buildings obey whoever reaches it"},
	{header.TCP, 4840, 4840, network.ControlOpen, "machines obey whoever reaches it"},

	// Services that answer much for little, to whoever the sender says it is.
	{header.UDP, 19, 19, network.AmplifierOpen, "answers more than it is asked"},
	{header.UDP, 53, 53, network.AmplifierOpen, "a name server for everybody answers more than it is asked"},
	{header.UDP, 111, 111, network.AmplifierOpen, "answers more than it is asked"},
	{header.UDP, 123, 123, network.AmplifierOpen, "a time server answers more than it is asked"},
	{header.UDP, 161, 161, network.AmplifierOpen, "answers more than it is asked, and tells about the machine"},
	{header.UDP, 389, 389, network.AmplifierOpen, "answers more than it is asked"},
	{header.UDP, 1900, 1900, network.AmplifierOpen, "answers more than it is asked"},
	{header.UDP, 5353, 5353, network.AmplifierOpen, "answers more than it is asked"},
	{header.UDP, 11211, 11211, network.AmplifierOpen, "answers thousands of times what it is asked"},
}

// clearText are services that show passwords and contents, by their ports.
var clearText = []uint16{21, 23, 80, 110, 143, 513, 514, 8080}

// management are the ports at which a gateway is commonly administered.
var management = []uint16{22, 23, 80, 443, 8080, 8443}
