package store

import "github.com/riverqueue/river/rivertype"

// Unfinished are the states of a job that is yet to be done, or is being done. A job that is unique by these is there
// once at a time, over all processes.
var Unfinished = []rivertype.JobState{
	rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRunning, rivertype.JobStateRetryable,
	rivertype.JobStateScheduled,
}
