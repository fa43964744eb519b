/* Values → the texts of CSV cells. Each function writes at `to`, where there is room, and gives the place behind. */

#ifndef MUKRET_WRITING_H
#define MUKRET_WRITING_H

#include <math.h>
#include <stdint.h>
#include <string.h>

enum { WIDEST = 64 }; /* bytes that a value of any type but text takes at most */

static const char PAIRS[] =
    "0001020304050607080910111213141516171819202122232425262728293031323334353637383940414243444546474849"
    "5051525354555657585960616263646566676869707172737475767778798081828384858687888990919293949596979899";

static inline uint8_t *put_digits(uint8_t *to, uint64_t number) {
    uint8_t digits[20];
    int place = 20;
    while (number >= 100) {
        place -= 2;
        memcpy(digits + place, PAIRS + 2 * (number % 100), 2);
        number /= 100;
    }
    if (number >= 10) {
        place -= 2;
        memcpy(digits + place, PAIRS + 2 * number, 2);
    } else {
        digits[--place] = (uint8_t)('0' + number);
    }
    memcpy(to, digits + place, (size_t)(20 - place));
    return to + 20 - place;
}

static inline uint8_t *put_integer(uint8_t *to, int64_t number) {
    if (number >= 0) return put_digits(to, (uint64_t)number);
    *to++ = '-';
    return put_digits(to, 0 - (uint64_t)number);
}

/* A number of 128 bits with so many digits behind the point. */
static inline uint8_t *put_decimal(uint8_t *to, __int128 value, int scale) {
    unsigned __int128 number = (unsigned __int128)value;
    if (value < 0) {
        *to++ = '-';
        number = 0 - number;
    }
    uint8_t digits[40];
    int place = 40;
    while (number > UINT64_MAX) {
        digits[--place] = (uint8_t)('0' + (int)(number % 10));
        number /= 10;
    }
    for (uint64_t small = (uint64_t)number; small; small /= 10) digits[--place] = (uint8_t)('0' + small % 10);
    while (40 - place < scale + 1) digits[--place] = '0';
    int whole = 40 - place - scale;
    memcpy(to, digits + place, (size_t)whole);
    to += whole;
    if (scale) {
        *to++ = '.';
        memcpy(to, digits + 40 - scale, (size_t)scale);
        to += scale;
    }
    return to;
}

/* The shortest decimal that reads back as a double, if it has 15 digits at most and is neither very large nor very small:
   fewer decimals come first, and no two decimals of 15 digits are the same double (IEEE 754, 5.12.2). 0: it is longer. */
static inline int short_decimal(double value, int64_t *number, int *scale) {
    static const double TENS[] = {1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9};
    double size = fabs(value);
    if (value == 0 && !signbit(value)) {
        *number = *scale = 0;
        return 1;
    }
    if (!(size >= 1e-4 && size < 1e15)) return 0;
    for (*scale = 0; *scale < 10; ++*scale) {
        double digits = nearbyint(size * TENS[*scale]);
        if (digits >= 1e15) return 0;
        if (digits / TENS[*scale] == size) {
            *number = value < 0 ? -(int64_t)digits : (int64_t)digits;
            return 1;
        }
    }
    return 0;
}

static inline uint8_t *put_pair(uint8_t *to, int number) {
    memcpy(to, PAIRS + 2 * number, 2);
    return to + 2;
}

/* A day, counted from 1970-01-01, in the years 1 to 9999 (after Hinnant, chrono-compatible algorithms). */
static inline uint8_t *put_date(uint8_t *to, int64_t days) {
    days += 719468;
    int64_t era = (days >= 0 ? days : days - 146096) / 146097;
    int of_era = (int)(days - era * 146097);
    int year_of_era = (of_era - of_era / 1460 + of_era / 36524 - of_era / 146096) / 365;
    int of_year = of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    int shifted = (5 * of_year + 2) / 153;
    int day = of_year - (153 * shifted + 2) / 5 + 1;
    int month = shifted < 10 ? shifted + 3 : shifted - 9;
    int year = (int)(year_of_era + era * 400) + (month <= 2);
    to = put_pair(put_pair(to, year / 100), year % 100);
    *to++ = '-';
    to = put_pair(to, month);
    *to++ = '-';
    return put_pair(to, day);
}

/* Microseconds since 1970; of the fraction what is not nought at its end. */
static inline uint8_t *put_moment(uint8_t *to, int64_t micros, int utc) {
    int64_t days = micros / 86400000000, rest = micros % 86400000000;
    if (rest < 0) {
        rest += 86400000000;
        days--;
    }
    int seconds = (int)(rest / 1000000), fraction = (int)(rest % 1000000);
    to = put_date(to, days);
    *to++ = 'T';
    to = put_pair(to, seconds / 3600);
    *to++ = ':';
    to = put_pair(to, seconds / 60 % 60);
    *to++ = ':';
    to = put_pair(to, seconds % 60);
    if (fraction) {
        *to++ = '.';
        to = put_pair(put_pair(put_pair(to, fraction / 10000), fraction / 100 % 100), fraction % 100);
        while (to[-1] == '0') to--;
    }
    if (utc) *to++ = 'Z';
    return to;
}

/* A text, in quotes if it is empty or has one of the marks of CSV; it takes two bytes more than twice its length at most. */
static inline uint8_t *put_text(uint8_t *to, const uint8_t *text, uint32_t length) {
    int special = length == 0, quotes = 0;
    for (uint32_t place = 0; place < length; place++) {
        uint8_t byte = text[place];
        special |= (byte == ',') | (byte == '\n') | (byte == '\r');
        quotes |= byte == '"';
    }
    if (!special && !quotes) {
        memcpy(to, text, length);
        return to + length;
    }
    *to++ = '"';
    if (!quotes) {
        if (length) memcpy(to, text, length);
        to += length;
    } else {
        for (uint32_t place = 0; place < length; place++) {
            if (text[place] == '"') *to++ = '"';
            *to++ = text[place];
        }
    }
    *to++ = '"';
    return to;
}

#endif
