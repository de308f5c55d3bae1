// Package folder reads definition files (*.beacon.yaml) from a folder and those below it. The commands and the followed folder
// read them the same way.
package folder
