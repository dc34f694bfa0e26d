package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"

	"hollowbridge/internal/gateway"
)

func (c *mappingCall) settleMapping() int {
	number, err := strconv.ParseUint(c.args[1], 10, 63)
	if err != nil {
		return c.misused("%s %s: the number that mapping list shows", c.args[0], c.args[1])
	}
	list := c.asAdministrator()
	if list == nil {
		return wrong
	}
	if len(list) > 1 {
		return c.misused("%s: each gateway numbers what waits by itself; say which with -gateway", c.args[0])
	}
	approve := c.args[0] == "approve"
	err = list[0].Settle(context.Background(), gateway.Settlement{Number: number, Approve: approve, Who: loginName()})
	if err != nil {
		var refusal *gateway.Refusal
		if errors.As(err, &refusal) {
			c.failed(err)
			return no
		}
		return c.failed(err)
	}
	if !c.json {
		word := "refused"
		if approve {
			word = "approved"
		}
		fmt.Fprintf(c.Out, "%s: number %d is %s\n", list[0].Gateway, number, word)
	}
	return yes
}
