package engine

import (
	"slices"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
)

// isItself is the fourth step: the destination is one of the gateway's own addresses, or an
// outside address of its rules, and nothing redirected it.
func (v *visit) isItself() bool {
	return v.flow.in(flowset.Destination, &v.ownSet) || v.flow.isClaimed(v.claims, nil, v.moment)
}

// itself answers what the gateway serves on the interface; everything else ends here.
func (v *visit) itself() {
	if v.part != header.Begins {
		v.note(StepItself, AnswerItself, nil)
		v.stop(Dropped, StepItself, nil)
		return
	}
	own := v.flow.in(flowset.Destination, &v.ownSet)
	for i := range v.Serves {
		if s := &v.Serves[i]; own && slices.Contains(s.On, v.in) && v.flow.isFor(s.Services) {
			v.note(StepItself, ServesItself, nil).Text = s.Name
			if v.keep(nil, true) {
				v.decision.Action, v.decision.Packet = Takes, v.flow.now()
			}
			return
		}
	}
	v.note(StepItself, EndsItself, nil).Flag = own
	v.stop(Itself, StepItself, nil)
}
