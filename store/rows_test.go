package store

import (
	"context"
	"database/sql/driver"
	"fmt"
	"reflect"
	"slices"
	"sync"
	"testing"
	"time"

	"gorm.io/gorm/schema"

	"readyferry/store/body"
)

// fill gives each field of a model a value of its own.
func fill(v reflect.Value) {
	for i := range v.NumField() {
		f := v.Field(i)
		switch at := time.UnixMicro(int64(1e15 + i)).UTC(); f.Interface().(type) {
		case time.Time:
			f.Set(reflect.ValueOf(at))
		case *time.Time:
			f.Set(reflect.ValueOf(&at))
		case body.Body:
			f.Set(reflect.ValueOf(body.Of(fmt.Appendf(nil, "%200d", i))))
		case ID:
			f.Set(reflect.ValueOf(ID{byte(i), 1}))
		case *int64: // of a column that its row leaves out
		case *ID:
			f.Set(reflect.ValueOf(&ID{byte(i), 2}))
		case []byte:
			f.SetBytes([]byte{byte(i), 3})
		case string:
			f.SetString(fmt.Sprint("text ", i))
		case bool:
			f.SetBool(true)
		default:
			if f.CanInt() {
				f.SetInt(int64(i + 1))
			} else {
				f.SetUint(uint64(i%3 + 1))
			}
		}
	}
}

// asGORM compares what a row writes with what GORM makes of the model.
func asGORM[T any](t *testing.T, r *row[T], without ...string) {
	t.Helper()
	schema.RegisterSerializer("micros", serializer{})
	s, err := schema.Parse(new(T), &sync.Map{}, schema.NamingStrategy{})
	if err != nil {
		t.Fatal(err)
	}
	var columns []string
	for _, name := range s.DBNames {
		if !slices.Contains(without, name) {
			columns = append(columns, name)
		}
	}
	mine := slices.Clone(r.columns)
	slices.Sort(columns)
	slices.Sort(mine)
	if s.Table != r.table || !slices.Equal(columns, mine) {
		t.Fatalf("%s has %v, and GORM's %s has %v", r.table, mine, s.Table, columns)
	}
	var empty, full T
	fill(reflect.ValueOf(&full).Elem())
	for _, model := range []*T{&empty, &full} {
		values := r.values(nil, model)
		for i, name := range r.columns {
			theirs, _ := s.LookUpField(name).ValueOf(context.Background(), reflect.ValueOf(model).Elem())
			for _, v := range []*any{&theirs, &values[i]} {
				if *v, err = driver.DefaultParameterConverter.ConvertValue(*v); err != nil {
					t.Fatal(name, err)
				}
			}
			if !reflect.DeepEqual(theirs, values[i]) {
				t.Errorf("%s.%s is %#v, and GORM writes %#v", r.table, name, values[i], theirs)
			}
		}
	}
}

func TestRowsAreWrittenAsTheModelsSay(t *testing.T) {
	asGORM(t, &transactionRow)
	asGORM(t, &messageRow)
	asGORM(t, &deliveryRow)
	asGORM(t, &tryRow)
	asGORM(t, &effectRow)
	asGORM(t, &itemRow)
	asGORM(t, &topicRow)
	asGORM(t, &topicMessageRow)
	asGORM(t, &topicTakenRow)
	asGORM(t, &bodyRow, "n", "refs", "stands")
	asGORM(t, &countRow)
	asGORM(t, &onceRow)
}
