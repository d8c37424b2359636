/* Bay Swap from C: handles, bytes and JSON across the border. Belongs to libbayswap_c.
 *
 * Every call answers with a status. On anything but BSW_OK the outputs are untouched, and bsw_error() has this
 * thread's error as JSON: {"code", "message", "hint", "remedy": {"kind", "values"}}. Inputs are borrowed for the
 * call. Outputs are the caller's: a text goes back to bsw_text_free(), bytes to bsw_bytes_free(), a handle to the
 * function that closes it. Requests are JSON objects, NULL or "" for an empty one; a key that is not known is an
 * error, BSW_BAD_USAGE. docs/schema/requests.json has them all; the answers are those of the tool, beside it. Texts
 * are UTF-8. A handle is for one thread at a time; several handles may be used at once. Nothing is thrown.
 */
#ifndef BAYSWAP_H
#define BAYSWAP_H

#include <stddef.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

#ifndef BSW_API
#define BSW_API __attribute__((visibility("default")))
#endif

/* Fixed numbers: new ones are added at the end. */
typedef enum bsw_status {
  BSW_OK = 0,
  BSW_NOT_RECOGNISED = 1, /* the input is of no known format */
  BSW_DAMAGED = 2,        /* the format is known, but the content is broken */
  BSW_DOES_NOT_FIT = 3,   /* the input is sound, but the target has no room or no place for it */
  BSW_WRONG_REGION = 4,   /* source and target belong to different games or regions */
  BSW_UNSAFE = 5,         /* a save could be lost; the user has to decide */
  BSW_BUSY = 6,           /* another process, or another program, is using it */
  BSW_NOT_FOUND = 7,      /* the file, folder, save or entry does not exist */
  BSW_IO = 8,             /* the disk or the network reported an error */
  BSW_BAD_USAGE = 9,      /* an argument or a request is not valid */
  BSW_UNSUPPORTED = 10,   /* known, but not possible */
  BSW_CANCELLED = 100,    /* the callback returned 0 */
  BSW_NO_MEMORY = 101,
  BSW_INTERNAL = 102 /* a mistake of ours; the message says where */
} bsw_status;

/* Bytes that belong to the caller until bsw_bytes_free(). */
typedef struct bsw_bytes {
  const uint8_t* data;
  size_t size;
  void* owner;
} bsw_bytes;

/* Is told how far a long call has come: {"event": "reading", "label": "saves/Brook.srm", "done": 3, "total": 0}.
 * `total` is 0 where it is not known. Returning 0 cancels: the call ends with BSW_CANCELLED, between two files or
 * two saves, never within one. Called on the thread that made the call, or, of a look, on one of ours. */
typedef int (*bsw_event)(void* user, const char* json);

typedef struct bsw_home bsw_home;
typedef struct bsw_plan bsw_plan;
typedef struct bsw_card bsw_card;

/* ---- The library ------------------------------------------------------------------------------ */

/* Grows when something breaks that worked; what was built against another number must not run. */
#define BSW_ABI 1
BSW_API uint32_t bsw_abi(void);
/* "0.1.0"; ours. */
BSW_API const char* bsw_version(void);
/* The last error of this thread; "{}" if there was none. Valid until this thread's next call. */
BSW_API const char* bsw_error(void);
BSW_API void bsw_text_free(char* text);
BSW_API void bsw_bytes_free(bsw_bytes* bytes);

/* ---- The home folder -------------------------------------------------------------------------- */

/* Opens the home folder, NULL for the user's own, and makes it if there is none: locks it against other processes,
 * settles what a dead process left open, reads the user's bays, layouts and names. Options: {"lock_seconds": 10},
 * how long another process is waited for. Fails with BSW_BUSY if it keeps the folder. */
BSW_API bsw_status bsw_home_open(const char* folder, const char* options, bsw_home** home);
/* Lets go of it. Plans made of it keep it open until they are freed too. NULL does nothing. */
BSW_API void bsw_home_close(bsw_home* home);

/* ---- Looking ---------------------------------------------------------------------------------- */

/* The saves of a place: a bay's name, a folder, a card image, an archive, a save, a URL. Answer: {"bay", "root", "saves"},
 * the saves as list gives them. Request: {"names_only": false}, which opens no file that a path rule names. A cancelled look is an error, never a
 * part. */
BSW_API bsw_status bsw_list(bsw_home* home, const char* place, const char* request, bsw_event event, void* user, char** json);
/* What bytes are, with the reasons. Request: {"name": "Brook.srm"}, the file's own name. Answer: what inspect says of a
 * file. */
BSW_API bsw_status bsw_inspect(bsw_home* home, const uint8_t* bytes, size_t size, const char* request, char** json);
/* Converts a battery save. Request: {"to": layout, "from": layout, "name": the file's name, "part"}; without "from" the
 * bytes decide. `base`, which may be NULL, is the target's own file: kept of it is what the input has not. Of a layout
 * that is a set of files the one of that "part" is returned ("eeprom", "flash", ...). Answer: {"from", "to", "part",
 * "notes", "warnings", "cuts"}; `cuts` are bytes that are not blank and have no place in it, a sentence each: show them
 * before you throw the input away. */
BSW_API bsw_status bsw_convert(bsw_home* home, const uint8_t* bytes, size_t size, const uint8_t* base, size_t base_size,
                               const char* request, bsw_bytes* out, char** json);

/* ---- Plans ------------------------------------------------------------------------------------ */

/* Plans a change; nothing is written. Requests:
 *   {"do": "carry", "what", "from", "to", "rom", "account", "slot", "region", "exact", "accept": [codes]}
 *   {"do": "carry-all", "from", "to", ...}         every save that differs
 *   {"do": "carry-file", "what": file, "to", "game", ...}  a save from a file or an archive
 *   {"do": "undo", "entry", "accept"}              an entry of the logbook, or the newest one that can be
 *   {"do": "restore", "entry", "before", "accept"} what an entry wrote, or what was there before
 */
BSW_API bsw_status bsw_plan_make(bsw_home* home, const char* request, bsw_event event, void* user, bsw_plan** plan);
/* The plan as carry --dry-run gives it. A plan that is refused says so in "refused", and why in "issues";
 * what a user may accept is the "code" in "accept" of a new request. */
BSW_API bsw_status bsw_plan_show(const bsw_plan* plan, char** json);
/* Runs it, once: the old bytes are kept first; nothing is written while a program has the files. `entry`, which may be
 * NULL, is the logbook's, 0 if nothing had to change. Of many saves it is the first; `json`, which may be NULL, says what
 * became of each. */
BSW_API bsw_status bsw_plan_run(bsw_plan* plan, bsw_event event, void* user, int64_t* entry, char** json);
BSW_API void bsw_plan_free(bsw_plan* plan);
/* Keeps the saves of a place in the logbook as they are. Request: {"what": game}; empty: all of them. Answer: as keep
 * gives it. */
BSW_API bsw_status bsw_backup(bsw_home* home, const char* place, const char* request, char** json);
/* The entries of the logbook, the newest first. Request: {"limit": 20}. Answer: {"entries": [...]}. */
BSW_API bsw_status bsw_logbook(bsw_home* home, const char* request, char** json);

/* ---- Memory cards, in memory ------------------------------------------------------------------ */

/* Opens a card image of any kind. `slot`: which card of a file with several, from 1 on; 0: the first. */
BSW_API bsw_status bsw_card_open(const uint8_t* bytes, size_t size, int slot, bsw_card** card);
/* A freshly formatted card. Request: {"kind": "ps1", "blocks", "image_bytes", "form", "formatted", "japanese"}. */
BSW_API bsw_status bsw_card_make(const char* request, bsw_card** card);
/* Kind, form, room, problems and saves: as card list gives them. */
BSW_API bsw_status bsw_card_list(const bsw_card* card, char** json);
/* The picture of a save as the console shows it: rows from the top, four bytes a pixel: red, green, blue, opacity.
 * BSW_NOT_FOUND if it has none of that number. */
BSW_API bsw_status bsw_card_icon(const bsw_card* card, const char* name, uint32_t frame, uint32_t* width, uint32_t* height,
                                 bsw_bytes* rgba);
/* A save as a file of its own. `form`: "single", the console's entry and the data, where the kind has it; "parcel", ours;
 * "payload", the data alone; NULL: single, or parcel where there is no such form. */
BSW_API bsw_status bsw_card_take(const bsw_card* card, const char* name, const char* form, bsw_bytes* file);
/* Adds a save from a file of its own. BSW_UNSAFE if the card has that name, BSW_DOES_NOT_FIT if it has no room. */
BSW_API bsw_status bsw_card_add(bsw_card* card, const uint8_t* bytes, size_t size);
BSW_API bsw_status bsw_card_drop(bsw_card* card, const char* name);
BSW_API bsw_status bsw_card_undelete(bsw_card* card, const char* name);
/* The whole image, with what was around it. The file on the disk changes only when the caller writes it. */
BSW_API bsw_status bsw_card_image(const bsw_card* card, bsw_bytes* image);
BSW_API void bsw_card_free(bsw_card* card);

/* ---- Everything else -------------------------------------------------------------------------- */

/* Any command of the tool, as a process of its own: bsw_call(home, "sync", "{\"arguments\": [\"--yes\"]}", ...). The answer is its
 * JSON document; the status that of its exit code, with the error that it reported. The tool is the program `bayswap` on the
 * PATH, or what the environment variable BAYSWAP_TOOL names. The home folder is let go of while it runs. Returning 0 from `event`,
 * which is asked ten times a second, interrupts it as Ctrl-C does. */
BSW_API bsw_status bsw_call(bsw_home* home, const char* command, const char* request, bsw_event event, void* user, char** json);

#ifdef __cplusplus
}
#endif
#endif
