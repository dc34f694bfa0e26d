package gateway

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"hollowbridge/core/walk"
	"hollowbridge/internal/kernel"
)

// PutEarly puts what was last in force into the kernel, and is done: for a machine that starts, before its network comes, so that it forwards
// nothing without rules until the service is there. It returns the number of the revision; 0 where nothing was in force. Where that can't
// be found out, or the kernel does not take it, the error says why, and nothing is forwarded until the service puts something better there.
func PutEarly(gateway, folder string, o KernelOptions) (revision int, err error) {
	machine, err := kernel.OpenMachine(o.Namespace)
	if err != nil {
		return 0, err
	}
	defer machine.Close()
	program, revision, err := lastInForce(gateway, folder, o)
	if err == nil && program == nil {
		return 0, nil
	}
	if err == nil {
		if err = machine.Apply(program); err == nil {
			return revision, nil
		}
	}
	if closed := machine.Apply(kernel.Closed()); closed != nil {
		return 0, fmt.Errorf("%w; and the kernel does not take rules that forward nothing: %w", err, closed)
	}
	return 0, fmt.Errorf("%w; so nothing is forwarded", err)
}

// lastInForce compiles what the state says was last in force; nil where nothing was. A trial that the machine's start has ended is over.
func lastInForce(gateway, folder string, o KernelOptions) (*kernel.Program, int, error) {
	if _, err := os.Stat(filepath.Join(folder, StateFile)); err != nil {
		return nil, 0, fmt.Errorf("what was in force is not known: %w", err)
	}
	state, err := OpenState(folder, gateway)
	if err != nil {
		return nil, 0, err
	}
	defer state.Close()
	r, err := state.Revision(0)
	if errors.Is(err, errNoRevision) {
		return nil, 0, nil
	}
	if err != nil {
		return nil, 0, err
	}
	pending, err := state.Pending()
	if err == nil && pending != nil && pending.left() <= 0 {
		if pending.Back == 0 {
			return nil, 0, nil
		}
		r, err = state.Revision(pending.Back)
	}
	if err != nil || r.Bundle == nil {
		return nil, 0, err
	}
	n, err := r.Bundle.Network()
	if err != nil {
		return nil, 0, fmt.Errorf("revision %d: %w", r.Number, err)
	}
	g := n.Called(gateway)
	if g == nil {
		return nil, 0, fmt.Errorf("revision %d has no gateway %s", r.Number, gateway)
	}
	program, _, err := kernel.Compile(walk.Compile(n, nil).Gateway(g), kernel.Options{Device: o.Device, LeaveOut: o.Lab})
	return program, r.Number, err
}
