// Package service builds everything from the records: the trail, the listeners,
// the console and the control socket; starts it, and stops it in an orderly way.
//
// It is the one place that knows all the parts.
package service
