//go:build !race

package flow_test

const raced = false
