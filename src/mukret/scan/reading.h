/* Reading JSON texts (RFC 8259) byte by byte: what costs most of a scan, and nothing that knows of rows or rules.

   Every function takes the place where to begin and gives the place behind what it read, or NULL if the text is wrong
   there. A text ends with a byte that no string, number or word holds (a line end or NUL), so none looks for its end at
   each step. `limit` is the end of the whole buffer, up to which 16 bytes may be looked at together. */

#ifndef MUKRET_READING_H
#define MUKRET_READING_H

#include <stdint.h>
#include <string.h>
#if defined(__SSE2__)
#include <emmintrin.h>
#endif

enum { MOST_LEVELS = 900, MOST_DIGITS = 4300 };

static inline int is_space(uint8_t byte) { return byte == ' ' || byte == '\n' || byte == '\r' || byte == '\t'; }

static inline int is_digit(uint8_t byte) { return (uint8_t)(byte - '0') < 10; }

static inline const uint8_t *after_space(const uint8_t *at, const uint8_t *end) {
    while (at < end && is_space(*at)) at++;
    return at;
}

/* The first byte that is a quote, a backslash, a control character or not ASCII. */
static inline const uint8_t *plain_end(const uint8_t *at, const uint8_t *limit) {
#if defined(__SSE2__)
    const __m128i quote = _mm_set1_epi8('"'), backslash = _mm_set1_epi8('\\'), space = _mm_set1_epi8(' ');
    while (limit - at >= 16) {
        __m128i bytes = _mm_loadu_si128((const __m128i *)at);
        __m128i odd = _mm_or_si128(_mm_cmpeq_epi8(bytes, quote), _mm_cmpeq_epi8(bytes, backslash));
        /* as signed numbers, bytes beyond ASCII are below the space, too */
        int mask = _mm_movemask_epi8(_mm_or_si128(odd, _mm_cmplt_epi8(bytes, space)));
        if (mask) return at + __builtin_ctz((unsigned)mask);
        at += 16;
    }
#endif
    (void)limit;
    while (*at >= ' ' && *at != '"' && *at != '\\' && *at < 0x80) at++;
    return at;
}

static inline int is_more(uint8_t byte) { return (byte & 0xC0) == 0x80; }

/* Behind one character beyond ASCII: UTF-8 without surrogates, overlong forms and what lies beyond U+10FFFF
   (Unicode, table 3-7). The last byte that is looked at may be the one behind the text: it is no such byte. */
static inline const uint8_t *after_character(const uint8_t *at) {
    uint8_t first = at[0];
    if (first < 0xC2) return NULL;
    if (first < 0xE0) return is_more(at[1]) ? at + 2 : NULL;
    if (!is_more(at[1])) return NULL;
    if (first < 0xF0) {
        if ((first == 0xE0 && at[1] < 0xA0) || (first == 0xED && at[1] > 0x9F)) return NULL;
        return is_more(at[2]) ? at + 3 : NULL;
    }
    if (first > 0xF4 || (first == 0xF0 && at[1] < 0x90) || (first == 0xF4 && at[1] > 0x8F)) return NULL;
    return is_more(at[2]) && is_more(at[3]) ? at + 4 : NULL;
}

static inline int hex_value(uint8_t byte) {
    if (is_digit(byte)) return byte - '0';
    byte |= 0x20;
    return byte >= 'a' && byte <= 'f' ? byte - 'a' + 10 : -1;
}

/* The number of four hexadecimal digits; -1 if they are none. */
static inline int hex4(const uint8_t *at) {
    int number = 0;
    for (int place = 0; place < 4; place++) {
        int value = hex_value(at[place]);
        if (value < 0) return -1;
        number = number * 16 + value;
    }
    return number;
}

/* Behind an escape, which begins with the backslash at `at`. Surrogates come in pairs. */
static inline const uint8_t *after_escape(const uint8_t *at) {
    switch (at[1]) {
        case '"': case '\\': case '/': case 'b': case 'f': case 'n': case 'r': case 't':
            return at + 2;
        case 'u': {
            int number = hex4(at + 2);
            if (number < 0 || (number >= 0xDC00 && number < 0xE000)) return NULL;
            if (number < 0xD800 || number >= 0xE000) return at + 6;
            if (at[6] != '\\' || at[7] != 'u') return NULL;
            int low = hex4(at + 8);
            return low >= 0xDC00 && low < 0xE000 ? at + 12 : NULL;
        }
    }
    return NULL;
}

/* `at` is behind the opening quote; gives the place of the closing one. */
static inline const uint8_t *string_end(const uint8_t *at, const uint8_t *limit, int *escaped) {
    for (;;) {
        at = plain_end(at, limit);
        if (*at == '"') return at;
        if (*at == '\\') {
            *escaped = 1;
            at = after_escape(at);
        } else if (*at >= 0x80) {
            do at = after_character(at); while (at && *at >= 0x80);
        } else {
            return NULL;
        }
        if (!at) return NULL;
    }
}

static inline const uint8_t *after_digits(const uint8_t *at) {
    if (!is_digit(*at)) return NULL;
    while (is_digit(*at)) at++;
    return at;
}

/* `whole`: it has neither fraction nor exponent. More digits than MOST_DIGITS are for somebody else to judge. */
static inline const uint8_t *number_end(const uint8_t *at, int *whole) {
    const uint8_t *start = at;
    if (*at == '-') at++;
    if (*at == '0') at++;
    else if (!(at = after_digits(at))) return NULL;
    *whole = 1;
    if (*at == '.') {
        *whole = 0;
        if (!(at = after_digits(at + 1))) return NULL;
    }
    if (*at == 'e' || *at == 'E') {
        *whole = 0;
        at++;
        if (*at == '+' || *at == '-') at++;
        if (!(at = after_digits(at))) return NULL;
    }
    return at - start > MOST_DIGITS ? NULL : at;
}

static inline const uint8_t *word_end(const uint8_t *at, const char *word, int length, const uint8_t *end) {
    return end - at >= length && memcmp(at, word, (size_t)length) == 0 ? at + length : NULL;
}

static inline const uint8_t *scalar_end(const uint8_t *at, const uint8_t *end, const uint8_t *limit) {
    int ignored = 0;
    switch (*at) {
        case '"':
            at = string_end(at + 1, limit, &ignored);
            return at ? at + 1 : NULL;
        case 't': return word_end(at, "true", 4, end);
        case 'f': return word_end(at, "false", 5, end);
        case 'n': return word_end(at, "null", 4, end);
    }
    return number_end(at, &ignored);
}

/* Behind the name of a member and its colon; `at` is where the name begins. */
static inline const uint8_t *after_name(const uint8_t *at, const uint8_t *end, const uint8_t *limit) {
    int ignored = 0;
    if (at >= end || *at != '"' || !(at = string_end(at + 1, limit, &ignored))) return NULL;
    at = after_space(at + 1, end);
    return at < end && *at == ':' ? after_space(at + 1, end) : NULL;
}

/* Behind a value that nobody reads: checked, and nothing kept of it. `level`: so many arrays and objects are around. */
static inline const uint8_t *value_end(const uint8_t *at, const uint8_t *end, const uint8_t *limit, int level) {
    uint64_t is_object[(MOST_LEVELS + 64) / 64];
    int depth = 0;
    for (;;) {
        /* a value begins here */
        if (at >= end) return NULL;
        if (*at == '{' || *at == '[') {
            int object = *at == '{';
            at = after_space(at + 1, end);
            if (at >= end) return NULL;
            if (*at == (object ? '}' : ']')) {
                at++;
            } else {
                if (level + depth >= MOST_LEVELS) return NULL;
                uint64_t bit = (uint64_t)1 << (depth % 64);
                is_object[depth / 64] = object ? is_object[depth / 64] | bit : is_object[depth / 64] & ~bit;
                depth++;
                if (object && !(at = after_name(at, end, limit))) return NULL;
                continue;
            }
        } else if (!(at = scalar_end(at, end, limit))) {
            return NULL;
        }
        /* a value ended here */
        for (;;) {
            if (!depth) return at;
            int object = (int)(is_object[(depth - 1) / 64] >> ((depth - 1) % 64)) & 1;
            at = after_space(at, end);
            if (at >= end) return NULL;
            if (*at == ',') {
                at = after_space(at + 1, end);
                if (object && !(at = after_name(at, end, limit))) return NULL;
                break;
            }
            if (*at != (object ? '}' : ']')) return NULL;
            at++;
            depth--;
        }
    }
}

/* A text without its escapes; it has been read before, so they are right. Gives its length, which is never more. */
static inline uint32_t unescaped(const uint8_t *from, uint32_t length, uint8_t *to) {
    const uint8_t *end = from + length;
    uint8_t *start = to;
    while (from < end) {
        const uint8_t *next = (const uint8_t *)memchr(from, '\\', (size_t)(end - from));
        size_t plain = (size_t)((next ? next : end) - from);
        memcpy(to, from, plain);
        to += plain;
        if (!next) break;
        from = next + 2;
        switch (next[1]) {
            case 'b': *to++ = '\b'; break;
            case 'f': *to++ = '\f'; break;
            case 'n': *to++ = '\n'; break;
            case 'r': *to++ = '\r'; break;
            case 't': *to++ = '\t'; break;
            case 'u': {
                uint32_t number = (uint32_t)hex4(from);
                from += 4;
                if (number >= 0xD800 && number < 0xE000) {
                    number = 0x10000 + ((number - 0xD800) << 10) + ((uint32_t)hex4(from + 2) - 0xDC00);
                    from += 6;
                }
                if (number < 0x80) {
                    *to++ = (uint8_t)number;
                } else if (number < 0x800) {
                    *to++ = (uint8_t)(0xC0 | number >> 6);
                    *to++ = (uint8_t)(0x80 | (number & 0x3F));
                } else if (number < 0x10000) {
                    *to++ = (uint8_t)(0xE0 | number >> 12);
                    *to++ = (uint8_t)(0x80 | (number >> 6 & 0x3F));
                    *to++ = (uint8_t)(0x80 | (number & 0x3F));
                } else {
                    *to++ = (uint8_t)(0xF0 | number >> 18);
                    *to++ = (uint8_t)(0x80 | (number >> 12 & 0x3F));
                    *to++ = (uint8_t)(0x80 | (number >> 6 & 0x3F));
                    *to++ = (uint8_t)(0x80 | (number & 0x3F));
                }
                break;
            }
            default: *to++ = next[1];
        }
    }
    return (uint32_t)(to - start);
}

/* Of names in a program: few, and known before. */
static inline uint32_t quick_hash(const uint8_t *name, uint32_t length) {
    if (!length) return 0;
    return ((length * 31 + name[0]) * 31 + name[length - 1]) * 31 + name[length / 2];
}

/* Another one in each process, so that nobody can make texts whose hashes meet. */
static uint64_t hash_seed = 0x9E3779B97F4A7C15u;

/* Of whatever texts a document has: eight bytes at a time, multiplied and folded. */
static inline uint64_t name_hash(const uint8_t *name, uint32_t length) {
    uint64_t hashed = hash_seed ^ length, piece;
    for (; length >= 8; name += 8, length -= 8) {
        memcpy(&piece, name, 8);
        hashed = (hashed ^ piece) * 0xD6E8FEB86659FD93u;
        hashed ^= hashed >> 32;
    }
    piece = 0;
    memcpy(&piece, name, length);
    hashed = (hashed ^ piece) * 0xD6E8FEB86659FD93u;
    hashed ^= hashed >> 32;
    return hashed * 0xD6E8FEB86659FD93u;
}

/* The halves of a product of 128 bits, one upon the other. */
static inline uint64_t folded(uint64_t one, uint64_t other) {
    unsigned __int128 product = (unsigned __int128)one * other;
    return (uint64_t)product ^ (uint64_t)(product >> 64);
}

/* Two hashes of 64 bits, one piece further; that they differ makes them one of 128. */
static inline void mix(uint64_t *first, uint64_t *second, uint64_t piece) {
    *first = folded(*first ^ piece ^ 0xA0761D6478BD642Fu, 0xE7037ED1A0B428DBu);
    *second = folded((*second + piece) ^ 0x8EBC6AF09C88C6E3u, 0x589965CC75374CC3u);
}

/* A number below `room`, evenly. */
static inline uint64_t scaled(uint64_t number, uint64_t room) {
    return (uint64_t)((unsigned __int128)number * room >> 64);
}

/* Puts the hash of a name in the object with a mark (never 0) into a table with open addresses, of which the room is a
   power of two; 0 if it is there already. */
static inline int put_hash(uint64_t *hashes, uint32_t *marks, uint32_t room, uint64_t hashed, uint32_t mark) {
    uint32_t place = (uint32_t)((hashed + mark * 0x9E3779B97F4A7C15u) >> 20) & (room - 1);
    while (marks[place]) {
        if (marks[place] == mark && hashes[place] == hashed) return 0;
        place = (place + 1) & (room - 1);
    }
    marks[place] = mark;
    hashes[place] = hashed;
    return 1;
}

#endif
