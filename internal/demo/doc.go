// Package demo is the sample city: the survey office of Port Selwyn with its
// accounts, files and two weeks of history, and live traffic made by real
// clients on loopback. Everything in it is made up.
// It works the service as its users and operators do: the protocols, the tree and the
// trail it does not know.
package demo
