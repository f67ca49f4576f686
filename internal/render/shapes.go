package render

// Shapes are the JSON shapes that programs rely on, by the name of their
// schema.
var Shapes = map[string]any{
	"audit":           &ReportShape{},
	"finding":         &FindingShape{},
	"list":            &ListShape{},
	"account":         &AccountShape{},
	"compare":         &ComparisonShape{},
	"batch":           &BatchShape{},
	"batch-report":    &HandoverShape{},
	"reconcile":       &ReconciliationShape{},
	"trend":           &TrendShape{},
	"trace":           &TraceShape{},
	"traces":          &TracesShape{},
	"account-changes": &AccountChangesShape{},
	"ladders":         &LaddersShape{},
	"forecast":        &ForecastShape{},
}
