package cli

import (
	"flag"
	"fmt"
	"maps"
	"slices"
	"strings"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/gateway"
	"hollowbridge/internal/lab"
	"hollowbridge/internal/netfile"
)

var completionCommand = &command{
	name: "completion", arguments: "bash | zsh | fish",
	summary: "prints what makes a shell complete commands, flags, and the names in the network file",
	help: `Prints a script for a shell. With it, tab completes commands, flags, their values, and the names
that stand in the network file: gateways, hosts, groups, zones, services, rules.

  bash  source <(hollowbridge completion bash)        in ~/.bashrc
  zsh   source <(hollowbridge completion zsh)         in ~/.zshrc, behind compinit
  fish  hollowbridge completion fish | source         in ~/.config/fish/config.fish

The scripts ask hollowbridge completion -- WORDS, which prints what the last word may become.`,
	examples: []string{"hollowbridge completion bash", "hollowbridge completion -- trace arch"},
}

func init() { completionCommand.begin = commonly(noFlags, runCompletion) } // it reads the list of commands, which names it

// completionScripts are what each shell reads. Bash takes words apart at colons, so the line is
// taken as it is, and what stands before the last colon is not given back.
var completionScripts = map[string]string{
	"bash": `_hollowbridge() {
	local line="${COMP_LINE:0:COMP_POINT}" IFS=$' \t\n' words last
	read -ra words <<<"$line"
	[[ "$line" == *[[:space:]] ]] && words+=("")
	last="${words[-1]}"
	IFS=$'\n' COMPREPLY=($(hollowbridge completion -- "${words[@]:1}" 2>/dev/null))
	if [[ "$last" == *:* && "$COMP_WORDBREAKS" == *:* ]]; then
		COMPREPLY=("${COMPREPLY[@]#"${last%:*}:"}")
	fi
}
complete -o default -F _hollowbridge hollowbridge
`,
	"zsh": `_hollowbridge() {
	local -a list
	list=(${(f)"$(hollowbridge completion -- "${(@)words[2,CURRENT]}" 2>/dev/null)"})
	if (( ${#list} )); then
		compadd -a list
	else
		_files
	fi
}
compdef _hollowbridge hollowbridge
`,
	"fish": `complete -c hollowbridge -a '(hollowbridge completion -- (commandline -opc)[2..] (commandline -ct) 2>/dev/null)'
`,
}

func runCompletion(c *call) int {
	if slices.Index(c.all, "--") == 1 {
		for _, word := range c.complete(c.args) {
			fmt.Fprintln(c.Out, word)
		}
		return yes
	}
	if len(c.args) != 1 || completionScripts[c.args[0]] == "" {
		return c.misused("it needs the name of a shell: bash, zsh or fish")
	}
	fmt.Fprint(c.Out, completionScripts[c.args[0]])
	return yes
}

// mostCompleted is how many words are offered at most.
const mostCompleted = 1000

// complete returns what the last of some words may become, sorted.
func (c *call) complete(words []string) []string {
	if len(words) == 0 {
		words = []string{""}
	}
	last := words[len(words)-1]
	var list []string
	for _, word := range c.candidates(words[:len(words)-1], last) {
		if word != "" && strings.HasPrefix(word, last) && !strings.ContainsAny(word, " \t\n") {
			list = append(list, word)
		}
	}
	slices.Sort(list)
	list = slices.Compact(list)
	return list[:min(len(list), mostCompleted)]
}

// candidates returns what may stand behind some words.
func (c *call) candidates(before []string, last string) []string {
	if len(before) == 0 {
		return commandNames()
	}
	asked := find(before[0])
	if asked == nil {
		return nil
	}
	set := flagSet(asked, asked.begin(&call{}))
	if strings.HasPrefix(last, "-") {
		var names []string
		set.VisitAll(func(f *flag.Flag) { names = append(names, "-"+f.Name) })
		return names
	}
	positions, waits := positionsOf(set, before[1:])
	n := c.networkOf(before)
	if waits != "" {
		if of := flagValues[waits]; of != nil {
			return of(asked.name, n)
		}
		return nil // a file, or anything
	}
	of := argumentValues[asked.name]
	if of == nil {
		return nil
	}
	return of(positions, n)
}

func commandNames() (names []string) {
	for _, known := range commands() {
		names = append(names, known.name)
	}
	return names
}

// positionsOf returns the arguments among some words, and the flag whose value comes next, if any.
func positionsOf(set *flag.FlagSet, words []string) (positions []string, waits string) {
	for _, word := range words {
		name, isFlag := strings.CutPrefix(strings.TrimPrefix(word, "-"), "-")
		isFlag = isFlag || strings.HasPrefix(word, "-") && len(word) > 1
		switch f := set.Lookup(strings.TrimPrefix(name, "-")); {
		case waits != "":
			waits = ""
		case !isFlag:
			positions = append(positions, word)
		case f != nil && !isBool(f):
			waits = f.Name
		}
	}
	return positions, waits
}

func isBool(f *flag.Flag) bool {
	b, ok := f.Value.(interface{ IsBoolFlag() bool })
	return ok && b.IsBoolFlag()
}

// networkOf returns the network that the words are about, or nil.
func (c *call) networkOf(words []string) *network.Network {
	path := c.path()
	for i, word := range words[:len(words)-1] {
		if word == "-f" || word == "--f" {
			path = words[i+1]
		}
	}
	n, err := netfile.Read(path)
	if err != nil {
		return nil
	}
	return n
}

// flagValues are what a flag may be given, by its name.
var flagValues = map[string]func(command string, n *network.Network) []string{
	"gateway": func(_ string, n *network.Network) []string { return gatewayNames(n) }, "in": func(_ string, n *network.Network) []string { return interfaceNames(n) },
	"from": anywhere, "to": anywhere, "address": anywhere, "as": anywhere, "machine": anywhere, "service": func(_ string, n *network.Network) []string { return serviceNames(n) },
	"rule": func(_ string, n *network.Network) []string { return ruleNamesOf(n) }, "trial": func(_ string, n *network.Network) []string { return ruleNamesOf(n) },
	"outcome": func(string, *network.Network) []string { return gateway.EventOutcomes() },
	"explain": func(command string, _ *network.Network) []string {
		if command != checkCommand.name {
			return nil
		}
		var names []string
		for _, k := range network.FindingKinds() {
			names = append(names, k.String())
		}
		return names
	},
	"on": func(command string, n *network.Network) []string {
		if command == gatewayCommand.name {
			return slices.Collect(maps.Keys(backends))
		}
		var names []string
		for _, name := range interfaceNames(n) {
			_, own, _ := strings.Cut(name, ":")
			names = append(names, own)
		}
		return append(names, zoneNames(n)...)
	},
	"by": func(command string, _ *network.Network) []string {
		if command == mappingCommand.name {
			return network.MappingProtocols
		}
		return nil
	},
}

// argumentValues are what a command's next argument may be, behind some others.
var argumentValues = map[string]func(before []string, n *network.Network) []string{
	"help": func(before []string, _ *network.Network) []string {
		if len(before) > 0 {
			return nil
		}
		return commandNames()
	},
	"show": func(before []string, n *network.Network) []string {
		switch {
		case len(before) == 0:
			names := []string{"map", "rule", "kernel"}
			for _, p := range parts {
				names = append(names, p.name)
			}
			return names
		case before[0] == "rule":
			return ruleNamesOf(n)
		case before[0] == "kernel":
			return gatewayNames(n)
		}
		return nil
	},
	"trace": connectionValues, "prove": connectionValues, "send": connectionValues,
	"probe": func(before []string, n *network.Network) []string {
		if len(before) == 1 {
			return serviceNames(n)
		}
		return nil
	},
	"add": func(before []string, _ *network.Network) []string {
		if len(before) == 0 {
			return netfile.Kinds()
		}
		return nil
	},
	"change": editedValues, "move": editedValues, "enable": editedValues, "disable": editedValues, "remove": editedValues,
	"gateway": func(before []string, n *network.Network) []string {
		if len(before) == 0 {
			return gatewayNames(n)
		}
		return nil
	},
	"lab": func(before []string, n *network.Network) []string {
		if len(before) > 0 {
			return nil
		}
		return append(append(gatewayNames(n), hostNames(n)...), lab.InternetName)
	},
	"mapping": func(before []string, n *network.Network) []string {
		switch {
		case len(before) == 0:
			return slices.Collect(maps.Keys(mappingVerbs))
		case len(before) == 1:
			return serviceNames(n)
		}
		return nil
	},
	"completion": func([]string, *network.Network) []string { return slices.Collect(maps.Keys(completionScripts)) },
}

func connectionValues(before []string, n *network.Network) []string {
	switch len(before) {
	case 0, 1:
		return anywhere("", n)
	case 2:
		return serviceNames(n)
	}
	return nil
}

func editedValues(before []string, n *network.Network) []string {
	names := append(ruleNamesOf(n), hostNames(n)...)
	if n != nil {
		for _, g := range n.Groups {
			names = append(names, g.Name)
		}
	}
	switch len(before) {
	case 0:
		return append(names, netfile.Kinds()...)
	case 1:
		return append(names, "before", "after")
	}
	return names
}

// anywhere are the names of addresses.
func anywhere(_ string, n *network.Network) []string {
	if n == nil {
		return nil
	}
	names := append([]string{"internet", "any"}, hostNames(n)...)
	for _, g := range n.Groups {
		names = append(names, g.Name)
	}
	return append(append(names, zoneNames(n)...), interfaceNames(n)...)
}

func gatewayNames(n *network.Network) (names []string) {
	if n != nil {
		for _, g := range n.Gateways {
			names = append(names, g.Name)
		}
	}
	return names
}

func hostNames(n *network.Network) (names []string) {
	if n != nil {
		for _, h := range n.Hosts {
			names = append(names, h.Name)
		}
	}
	return names
}

func zoneNames(n *network.Network) (names []string) {
	if n != nil {
		for _, z := range n.Zones {
			names = append(names, z.Name)
		}
	}
	return names
}

func interfaceNames(n *network.Network) (names []string) {
	if n != nil {
		for _, g := range n.Gateways {
			for _, i := range g.Interfaces {
				names = append(names, i.String())
			}
		}
	}
	return names
}

func ruleNamesOf(n *network.Network) (names []string) {
	if n != nil {
		for _, g := range n.Gateways {
			for r := range g.Rules() {
				names = append(names, r.Name)
			}
		}
	}
	return names
}

// serviceNames are those that the file defines, and some that most have.
func serviceNames(n *network.Network) []string {
	names := append([]string{"tcp/", "udp/", "icmp"}, header.ServiceNames()...)
	if n != nil {
		for _, s := range n.Services {
			names = append(names, s.Name)
		}
	}
	return names
}
