package reset

import "context"

// Clean is a state without content.
type Clean struct{}

func (c *Clean) words() string { return "a clean site" }

func (x *runner) cleaned(context.Context, *ends) (*wanted, error) { return nil, nil }
