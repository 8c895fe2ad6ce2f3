// What the sanitizers are told. Part of the program, and of the tests.

// Fontconfig holds what it knows of fonts until the process ends: no leak, though the sanitizer,
// which asks for this by its name, takes it for one.
#if defined(__has_feature)
#if __has_feature(address_sanitizer)
// NOLINTBEGIN(bugprone-reserved-identifier)
extern "C" const char* __lsan_default_suppressions() { return "leak:libfontconfig\n"; }
extern "C" const char* __lsan_default_options() { return "print_suppressions=0"; }
// NOLINTEND(bugprone-reserved-identifier)
#endif
#endif
