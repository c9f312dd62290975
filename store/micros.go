package store

import (
	"context"
	"fmt"
	"reflect"
	"time"

	"gorm.io/gorm/schema"
)

// Times stand in the file as whole microseconds since 1970 in UTC, so that they
// compare as they are and no zone is ever in the way.

// micros gives a time as it stands in the file.
func micros(t time.Time) int64 { return t.UnixMicro() }

// serializer turns the times of models into microseconds and back; nil stays NULL.
type serializer struct{}

// Scan implements schema.SerializerInterface.
func (serializer) Scan(ctx context.Context, field *schema.Field, dst reflect.Value, v any) error {
	var t time.Time
	switch v := v.(type) {
	case nil:
		field.ReflectValueOf(ctx, dst).SetZero()
		return nil
	case int64:
		t = time.UnixMicro(v).UTC()
	default:
		return fmt.Errorf("the time in %s is %T, not microseconds", field.Name, v)
	}
	if field.FieldType.Kind() == reflect.Pointer {
		field.ReflectValueOf(ctx, dst).Set(reflect.ValueOf(&t))
		return nil
	}
	field.ReflectValueOf(ctx, dst).Set(reflect.ValueOf(t))
	return nil
}

// Value implements schema.SerializerValuerInterface.
func (serializer) Value(_ context.Context, field *schema.Field, _ reflect.Value, v any) (any, error) {
	switch v := v.(type) {
	case time.Time:
		return micros(v), nil
	case *time.Time:
		if v == nil {
			return nil, nil
		}
		return micros(*v), nil
	case nil:
		return nil, nil
	}
	return nil, fmt.Errorf("%s is %T, not a time", field.Name, v)
}
