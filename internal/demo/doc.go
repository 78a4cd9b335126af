// Package demo is the sample city: the survey office of Port Selwyn with its
// accounts, files and two weeks of history, and live traffic made by real
// clients on loopback. Everything in it is made up.
package demo
