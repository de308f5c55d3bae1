package delegation

// UnmarshalText reads a verdict, also one by the name that it had in reports that were stored before the first release.
func (v *Verdict) UnmarshalText(text []byte) error {
	if *v = Verdict(text); *v == "wrong" {
		*v = NeedsAction
	}
	return nil
}
