package signin

import "context"

type nothingKey struct{}

// OnNothing has a function called when a change that is asked for changes nothing, since it is so already.
func OnNothing(ctx context.Context, do func()) context.Context {
	return context.WithValue(ctx, nothingKey{}, do)
}

// NothingChanged says that a change that was asked for changes nothing.
func NothingChanged(ctx context.Context) {
	if do, ok := ctx.Value(nothingKey{}).(func()); ok {
		do()
	}
}
