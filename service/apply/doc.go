// Package apply turns definition files into revisions, and revisions into syncs. define.go takes files as what their zones should
// contain; operations.go syncs the zones of a bulk change; watch.go follows a folder of definitions. What comes of it is
// written by package sync.
package apply
