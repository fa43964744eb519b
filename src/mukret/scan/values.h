/* Texts → typed values, of what surely means one thing; all else is REFUSED here and judged by the type itself. */

#ifndef MUKRET_VALUES_H
#define MUKRET_VALUES_H

#include <math.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>

#include "reading.h"

enum { READ_AS, REFUSED_HERE };

typedef struct {
    uint8_t point;    /* the mark before the fraction */
    uint8_t grouping; /* the mark between groups of three; 0: none */
    int percent;      /* hundredths */
} Marks;

typedef struct {
    int negative;
    int digits;         /* how many there are, leading zeros left out */
    int fraction;       /* how many of them stand behind the point */
    int exponent;
    unsigned __int128 number; /* all digits; right as long as there are 38 at most */
} Numeral;

enum { MOST_NUMERAL_DIGITS = 38 };

static inline int numeral_digits(const uint8_t **at, const uint8_t *end, Numeral *numeral) {
    const uint8_t *start = *at, *here = start;
    unsigned __int128 number = numeral->number;
    int digits = numeral->digits;
    /* the first 19 digits fit into 64 bits, which are much quicker */
    if (number == 0 && end - here <= 18) {
        uint64_t small = 0;
        while (here < end && is_digit(*here)) {
            small = small * 10 + (uint64_t)(*here++ - '0');
            if (small) digits++;
        }
        number = small;
    } else {
        while (here < end && is_digit(*here)) {
            number = number * 10 + (unsigned)(*here++ - '0');
            if (number && digits <= MOST_NUMERAL_DIGITS) digits++;
        }
    }
    numeral->number = number;
    numeral->digits = digits;
    *at = here;
    return (int)(here - start);
}

/* A numeral with marks; as narrow as all types agree on: digits before the point, groups of three. */
static inline int read_numeral(const uint8_t *at, uint32_t length, const Marks *marks, Numeral *numeral) {
    const uint8_t *end = at + length;
    memset(numeral, 0, sizeof(*numeral));
    if (at < end && *at == '-') {
        numeral->negative = 1;
        at++;
    }
    int before = numeral_digits(&at, end, numeral);
    if (!before) return REFUSED_HERE;
    if (marks->grouping && at < end && *at == marks->grouping) {
        if (before > 3) return REFUSED_HERE;
        while (at < end && *at == marks->grouping) {
            if (end - at < 4) return REFUSED_HERE;
            const uint8_t *group = at + 1;
            if (numeral_digits(&group, at + 4, numeral) != 3) return REFUSED_HERE;
            at = group;
        }
        if (at < end && is_digit(*at)) return REFUSED_HERE;
    }
    if (at < end && *at == marks->point) {
        at++;
        const uint8_t *stop = at;
        while (stop < end && is_digit(*stop)) stop++;
        if (stop == at) return REFUSED_HERE;
        if (numeral->number == 0) {
            numeral->fraction = numeral_digits(&at, stop, numeral);
        } else {
            unsigned __int128 number = numeral->number;
            numeral->fraction = (int)(stop - at);
            numeral->digits += numeral->fraction;
            if (numeral->digits <= 18) {
                uint64_t small = (uint64_t)number;
                while (at < stop) small = small * 10 + (uint64_t)(*at++ - '0');
                number = small;
            } else {
                while (at < stop) number = number * 10 + (unsigned)(*at++ - '0');
            }
            numeral->number = number;
        }
    }
    if (at < end && (*at == 'e' || *at == 'E')) {
        int below = 0, exponent = 0;
        at++;
        if (at < end && (*at == '+' || *at == '-')) below = *at++ == '-';
        if (at == end) return REFUSED_HERE;
        while (at < end && is_digit(*at)) {
            if (exponent > 9999) return REFUSED_HERE;
            exponent = exponent * 10 + (*at++ - '0');
        }
        numeral->exponent = below ? -exponent : exponent;
    }
    if (marks->percent) {
        if (at < end && *at == '%') at++;
        numeral->exponent -= 2;
    }
    return at == end && numeral->digits <= MOST_NUMERAL_DIGITS ? READ_AS : REFUSED_HERE;
}

static inline int read_integer(const uint8_t *at, uint32_t length, const Marks *marks, int64_t *value) {
    Numeral numeral;
    if (read_numeral(at, length, marks, &numeral) || numeral.fraction || numeral.exponent || numeral.digits > 18)
        return REFUSED_HERE;
    *value = numeral.negative ? -(int64_t)numeral.number : (int64_t)numeral.number;
    return READ_AS;
}

static inline unsigned __int128 power_of_ten(int power) {
    unsigned __int128 number = 1;
    while (power-- > 0) number *= 10;
    return number;
}

/* `room`: ten to the power of the type's precision. */
static inline int read_decimal(
    const uint8_t *at, uint32_t length, const Marks *marks, int scale, int precision, __int128 *value
) {
    Numeral numeral;
    if (read_numeral(at, length, marks, &numeral)) return REFUSED_HERE;
    int shift = scale - numeral.fraction + numeral.exponent;
    if (shift < 0 || numeral.digits + shift > precision) return numeral.number ? REFUSED_HERE : (*value = 0, READ_AS);
    unsigned __int128 number = shift ? numeral.number * power_of_ten(shift) : numeral.number;
    *value = numeral.negative ? -(__int128)number : (__int128)number;
    return READ_AS;
}

/* Powers of ten that a double holds exactly. */
static const double TENS[] = {1e0,  1e1,  1e2,  1e3,  1e4,  1e5,  1e6,  1e7,  1e8,  1e9,  1e10, 1e11,
                              1e12, 1e13, 1e14, 1e15, 1e16, 1e17, 1e18, 1e19, 1e20, 1e21, 1e22};

/* The nearest double. Where digits and power of ten are both exact as doubles, one operation rounds rightly (Clinger,
   1990); other numerals are for the C library, which rounds rightly as well. */
static inline int read_float(const uint8_t *at, uint32_t length, const Marks *marks, double *value) {
    Numeral numeral;
    if (read_numeral(at, length, marks, &numeral)) return REFUSED_HERE;
    int power = numeral.exponent - numeral.fraction;
    if (numeral.digits <= 19 && numeral.number <= (uint64_t)1 << 53 && power >= -22 && power <= 22) {
        double number = (double)(uint64_t)numeral.number;
        number = power < 0 ? number / TENS[-power] : number * TENS[power];
        *value = numeral.negative ? -number : number;
        return READ_AS;
    }
    char text[64];
    char digits[48];
    int count = 0;
    unsigned __int128 number = numeral.number;
    do {
        digits[count++] = (char)('0' + (int)(number % 10));
        number /= 10;
    } while (number);
    int place = 0;
    if (numeral.negative) text[place++] = '-';
    while (count) text[place++] = digits[--count];
    /* no point, so that it does not matter what the locale's is */
    text[place++] = 'e';
    if (power < 0) text[place++] = '-';
    unsigned left = power < 0 ? (unsigned)-power : (unsigned)power;
    do {
        digits[count++] = (char)('0' + left % 10);
        left /= 10;
    } while (left);
    while (count) text[place++] = digits[--count];
    text[place] = 0;
    *value = strtod(text, NULL);
    return isfinite(*value) ? READ_AS : REFUSED_HERE;
}

/* ---- times */

static inline int two_digits(const uint8_t *at) {
    return is_digit(at[0]) && is_digit(at[1]) ? (at[0] - '0') * 10 + at[1] - '0' : 1000;
}

/* Days since 1970-01-01 of a date in the proleptic Gregorian calendar (after Hinnant, chrono-compatible algorithms). */
static inline int64_t days_of(int year, int month, int day) {
    year -= month <= 2;
    int era = year / 400;
    int of_era = year - era * 400;
    int of_year = (153 * (month + (month > 2 ? -3 : 9)) + 2) / 5 + day - 1;
    return (int64_t)era * 146097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719468;
}

/* `YYYY-MM-DD` of years from 1 on. */
static inline int read_date(const uint8_t *at, uint32_t length, int64_t *days) {
    static const int8_t LENGTHS[] = {31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31};
    if (length != 10 || at[4] != '-' || at[7] != '-') return REFUSED_HERE;
    int century = two_digits(at), of_century = two_digits(at + 2), month = two_digits(at + 5), day = two_digits(at + 8);
    int year = century * 100 + of_century;
    if (century > 99 || of_century > 99 || year < 1 || month < 1 || month > 12) return REFUSED_HERE;
    int leap = month == 2 && year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);
    if (day < 1 || day > LENGTHS[month - 1] + leap) return REFUSED_HERE;
    *days = days_of(year, month, day);
    return READ_AS;
}

enum { LOCAL_TIME = 1, OFFSET_TIME = 2 };

/* ISO 8601 date and time with up to six digits of a second, in microseconds since 1970; with an offset in UTC. `form`
   says whether there was one. */
static inline int read_moment(const uint8_t *at, uint32_t length, int64_t *micros, int *form) {
    int64_t days;
    if (length < 16 || read_date(at, 10, &days)) return REFUSED_HERE;
    if ((at[10] != 'T' && at[10] != ' ' && at[10] != 't') || at[13] != ':') return REFUSED_HERE;
    int hour = two_digits(at + 11), minute = two_digits(at + 14), second = 0;
    const uint8_t *end = at + length;
    at += 16;
    int64_t fraction = 0;
    if (at < end && *at == ':') {
        if (end - at < 3) return REFUSED_HERE;
        second = two_digits(at + 1);
        at += 3;
        if (at < end && *at == '.') {
            int place = 0;
            for (at++; at < end && is_digit(*at); at++, place++) fraction = fraction * 10 + (*at - '0');
            if (place < 1 || place > 6) return REFUSED_HERE;
            for (; place < 6; place++) fraction *= 10;
        }
    }
    if (hour > 23 || minute > 59 || second > 59) return REFUSED_HERE;
    int64_t offset = 0;
    *form = LOCAL_TIME;
    if (at < end) {
        *form = OFFSET_TIME;
        if (*at == 'Z' || *at == 'z') {
            at++;
        } else if ((*at == '+' || *at == '-') && end - at >= 3) {
            int sign = *at == '-' ? -1 : 1, off_hour = two_digits(at + 1), off_minute = 0;
            at += 3;
            if (at < end && *at == ':') at++;
            else if (at < end && !is_digit(*at)) return REFUSED_HERE;
            if (at < end) {
                if (end - at < 2) return REFUSED_HERE;
                off_minute = two_digits(at);
                at += 2;
            } else if (at[-1] == ':') {
                return REFUSED_HERE;
            }
            if (off_hour > 23 || off_minute > 59) return REFUSED_HERE;
            offset = sign * (int64_t)(off_hour * 60 + off_minute) * 60;
        }
        if (at != end) return REFUSED_HERE;
    }
    *micros = (days * 86400 + hour * 3600 + minute * 60 + second - offset) * 1000000 + fraction;
    return READ_AS;
}

#endif
