//go:build !profile

package main

func profiled(run func() int) int { return run() }
