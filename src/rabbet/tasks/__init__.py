"""One module a user task: asks the layers below, returns a result object, prints nothing."""
