/* Loads libkwind.dll by name, as a program of another compiler does, and uses it through pointers. */
#include <stdint.h>
#include <stdio.h>
#include <string.h>
#include <windows.h>

typedef int32_t (*compile_function)(const void*, size_t, void**);
typedef const char* (*text_function)(void);
typedef const char* (*name_function)(const void*);

int main(void) {
  const struct {
    const char* name;
    const char* text;
  } source = {"quay.kw", "protocol quay 1\nchannel c ordered\nmessage A from client on c { x : bool }\n"};
  void* protocol = NULL;
  HMODULE library = LoadLibraryA("libkwind.dll");
  if (library == NULL) return 1;
  /* A detour by memcpy: C has no conversion from an object pointer to a function pointer. */
  compile_function compile;
  text_function version;
  text_function last_error;
  name_function name;
  FARPROC found[4];
  found[0] = GetProcAddress(library, "kwind_protocol_compile");
  found[1] = GetProcAddress(library, "kwind_version");
  found[2] = GetProcAddress(library, "kwind_last_error");
  found[3] = GetProcAddress(library, "kwind_protocol_name");
  memcpy(&compile, &found[0], sizeof compile);
  memcpy(&version, &found[1], sizeof version);
  memcpy(&last_error, &found[2], sizeof last_error);
  memcpy(&name, &found[3], sizeof name);
  if (compile == NULL || version == NULL || last_error == NULL || name == NULL) return 2;
  if (compile(&source, 1, &protocol) != 0) {
    printf("%s\n", last_error());
    return 3;
  }
  printf("libkwind.dll %s compiles protocol %s\n", version(), name(protocol));
  return 0;
}
