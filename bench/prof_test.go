package main

import "testing"

func TestProf(t *testing.T) {
	if err := rules(); err != nil {
		t.Fatal(err)
	}
}
