// Package storetest is what every kind of store must pass: what its folders and files do, what they refuse, and
// that racing calls leave one winner. Each kind's own tests run it, on the real thing.
package storetest
