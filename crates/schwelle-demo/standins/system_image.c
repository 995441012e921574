/*
 * Stand-in for a system's loader and kernel: nothing runs it, but its PE headers are true, so that whoever
 * reads machine, subsystem and sections reads what a real one would say.
 */
static const char marker[] = "SCHWELLE-DEMO stand-in image";

int entry(void) { return marker[0]; }
