package netfile

import (
	"fmt"
	"slices"
	"strings"

	"hollowbridge/core/network"
)

// Apply makes an edit. Where the file would then say anything else than before but what the edit says, that is an error and
// nothing changes.
func (e *Editor) Apply(edit network.Edit) error {
	switch edit.Verb {
	case network.Add:
		return e.only(edit, Thing{}, func() error { return e.add(edit) })
	case network.Rename:
		return e.rename(edit)
	}
	thing, err := e.Find(edit.Kind, edit.Name, edit.Gateway)
	if err != nil {
		return err
	}
	if edit.Verb == network.Copy {
		return e.copyRule(edit, thing)
	}
	return e.only(edit, thing, func() error { return e.apply(edit, thing) })
}

func (e *Editor) apply(edit network.Edit, thing Thing) error {
	switch edit.Verb {
	case network.Change:
		return e.Change(thing, edit.Settings)
	case network.Enable, network.Disable:
		if !thing.IsRule() {
			return fmt.Errorf("%s is no rule; only rules are enabled and disabled", thing)
		}
		disabled := ""
		if edit.Verb == network.Disable {
			disabled = "true"
		}
		return e.Change(thing, []network.Setting{{Key: network.KeyDisabled, Value: disabled}})
	case network.Move:
		return e.Move(thing, edit.After != "", edit.After+edit.Before)
	case network.Remove:
		return e.Remove(thing)
	}
	return fmt.Errorf("%s: no such edit", edit.Verb)
}

// ApplyAll makes edits one after the other.
func (e *Editor) ApplyAll(list network.Edits) error {
	for _, edit := range list {
		if err := e.Apply(edit); err != nil {
			return err
		}
	}
	return nil
}

func (e *Editor) add(edit network.Edit) error {
	switch edit.Kind {
	case "group", "service":
		return e.AddEntry(edit.Kind, edit.Name, e.asJSON(membersText(edit)))
	case "host":
		settings := edit.Settings
		if edit.Gateway != "" {
			settings = append(slices.Clone(settings), network.Setting{Key: network.KeyGateway, Value: edit.Gateway})
		}
		return e.AddEntry(edit.Kind, edit.Name, "{"+e.flowSettings(settings)+"}")
	}
	if slices.Contains(partKinds, edit.Kind) || edit.Kind == "gateway" {
		return e.addPart(edit)
	}
	gateway, err := e.GatewayFor(edit.Gateway)
	if err != nil {
		return err
	}
	return e.AddRule(gateway, edit.Kind, edit.Name, edit.Settings, edit.Before, edit.After)
}

// GatewayNames returns the names of the gateways in the file.
func (e *Editor) GatewayNames() (names []string) {
	_, gateways := lookup(e.root, "gateways")
	for i := 0; gateways != nil && i+1 < len(gateways.Content); i += 2 {
		names = append(names, gateways.Content[i].Value)
	}
	return names
}

// GatewayFor returns the name of the gateway that a rule is for: the one named, or, for an
// empty name, the only one.
func (e *Editor) GatewayFor(name string) (string, error) {
	names := e.GatewayNames()
	switch {
	case name != "" && !slices.Contains(names, name):
		return "", fmt.Errorf("%s: no such gateway%s", name, DidYouMean(name, names))
	case name != "":
		return name, nil
	case len(names) == 1:
		return names[0], nil
	}
	return "", fmt.Errorf("there are several gateways; say which with -gateway: %s", strings.Join(names, ", "))
}
