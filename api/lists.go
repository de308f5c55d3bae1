package api

import "reflect"

// withoutNulls returns a copy of v in which no list is nil: a reader of the JSON finds a list wherever the document
// says so, and never null.
func withoutNulls(v any) any {
	copied := reflect.New(reflect.TypeOf(v)).Elem()
	copied.Set(reflect.ValueOf(v))
	fillLists(copied)
	return copied.Interface()
}

func fillLists(v reflect.Value) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			fillLists(v.Elem())
		}
	case reflect.Slice:
		if v.IsNil() && v.CanSet() {
			v.Set(reflect.MakeSlice(v.Type(), 0, 0))
		}
		for i := range v.Len() {
			fillLists(v.Index(i))
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				fillLists(v.Field(i))
			}
		}
	}
}
