// An ordering routine within the library can print while it is debugged, never here. Its archive was not made
// for shared libraries: the stream that it would print to must be one of this library.
extern "C" {
void* stdout;
}
