package sequence

// Within orders the steps and looks at no more than so many states.
var Within = within
