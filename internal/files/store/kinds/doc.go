// Package kinds opens stores, each as its kind is opened, and holds what an open store is made of: keys,
// connections, the folder of what is not whole yet. It is the only package that knows all kinds.
package kinds
