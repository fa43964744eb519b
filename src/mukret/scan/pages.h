/* Memory of noughts, straight from the system and straight back: what is given back to the C library may stay with it. */

#ifndef MUKRET_PAGES_H
#define MUKRET_PAGES_H

#include <stddef.h>
#include <stdlib.h>

#if defined(_WIN32)
static inline void *pages_taken(size_t size) { return calloc(1, size); }

static inline void pages_given_back(void *pages, size_t size) {
    (void)size;
    free(pages);
}
#else
#include <sys/mman.h>

static inline void *pages_taken(size_t size) {
    void *pages = mmap(NULL, size, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    return pages == MAP_FAILED ? NULL : pages;
}

static inline void pages_given_back(void *pages, size_t size) {
    if (pages) munmap(pages, size);
}
#endif

#endif
