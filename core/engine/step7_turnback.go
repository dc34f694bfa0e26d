package engine

// turns is the seventh step: leaving by the interface it came in by must be allowed.
func (v *Visit) turns() (goes bool) {
	switch {
	case v.out != v.in:
		return true
	case v.Handling.TurnBack:
		v.note(StepTurnBack, TurnsBack, nil)
		return true
	}
	v.note(StepTurnBack, MayNotTurn, nil)
	v.stop(Dropped, StepTurnBack, nil)
	return false
}
