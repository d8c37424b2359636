/* c_interface TOOL FOLDER: every function of bayswap.h, from C11, in a demo world that it makes in FOLDER; with right and
 * with wrong arguments, and from two threads. Ends with 0, or says which line was not as it should be. */
#define _POSIX_C_SOURCE 200809L
#include <bayswap.h>

#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define MUST(condition)                                                                             \
  do {                                                                                              \
    if (!(condition)) {                                                                             \
      fprintf(stderr, "%s:%d: not so: %s\nerror: %s\n", __FILE__, __LINE__, #condition, bsw_error()); \
      exit(1);                                                                                      \
    }                                                                                               \
  } while (0)

static char folder[3000];

static const char* path(const char* below) {
  static _Thread_local char text[4096];
  snprintf(text, sizeof text, "%s/%s", folder, below);
  return text;
}

static uint8_t* bytes_of(const char* file, size_t* size) {
  FILE* in = fopen(file, "rb");
  MUST(in != NULL);
  static const size_t most = 1 << 24;
  uint8_t* bytes = malloc(most);
  *size = fread(bytes, 1, most, in);
  fclose(in);
  return bytes;
}

static int count_events(void* user, const char* json) {
  MUST(strstr(json, "\"event\"") != NULL);
  return ++*(int*)user > 0;
}
static int cancels(void* user, const char* json) {
  (void)json;
  ++*(int*)user;
  return 0;
}

static void look(bsw_home* home) {
  char* json = NULL;
  int events = 0;
  MUST(bsw_list(home, "bench", NULL, count_events, &events, &json) == BSW_OK);
  MUST(events > 0 && strstr(json, "LANTERN SKIFF") != NULL);
  bsw_text_free(json);
  MUST(bsw_list(home, "bench", "{\"names_only\": true}", NULL, NULL, &json) == BSW_OK);
  bsw_text_free(json);

  json = (char*)"untouched";
  events = 0;
  MUST(bsw_list(home, "bench", NULL, cancels, &events, &json) == BSW_CANCELLED && events == 1);
  MUST(strcmp(json, "untouched") == 0 && strstr(bsw_error(), "\"cancelled\"") != NULL);
  MUST(bsw_list(home, "no-such-place", NULL, NULL, NULL, &json) != BSW_OK);
  MUST(bsw_list(home, "bench", "{\"name_only\": true}", NULL, NULL, &json) == BSW_BAD_USAGE);
  MUST(strstr(bsw_error(), "name_only") != NULL && strstr(bsw_error(), "names_only") != NULL);
  MUST(bsw_list(home, "bench", "{\"names_only\": 1}", NULL, NULL, &json) == BSW_BAD_USAGE);
  MUST(bsw_list(home, "bench", "[1", NULL, NULL, &json) == BSW_BAD_USAGE);
  MUST(bsw_list(home, NULL, NULL, NULL, NULL, &json) == BSW_BAD_USAGE);
  MUST(bsw_list(NULL, "bench", NULL, NULL, NULL, &json) == BSW_BAD_USAGE);
  MUST(strcmp(json, "untouched") == 0);
}

static void convert(bsw_home* home) {
  size_t size = 0;
  uint8_t* save = bytes_of(path("world/bench/dumps/N99P.sra"), &size);
  char* json = NULL;
  MUST(bsw_inspect(home, save, size, "{\"name\": \"N99P.sra\"}", &json) == BSW_OK);
  MUST(strstr(json, "n64.sram") != NULL);
  bsw_text_free(json);
  MUST(bsw_inspect(home, NULL, 0, NULL, &json) == BSW_OK); /* nothing is a file of no bytes */
  bsw_text_free(json);
  MUST(bsw_inspect(home, NULL, 5, NULL, &json) == BSW_BAD_USAGE);

  bsw_bytes all = {NULL, 0, NULL};
  MUST(bsw_convert(home, save, size, NULL, 0, "{\"to\": \"n64.combined\", \"name\": \"N99P.sra\"}", &all, &json) == BSW_OK);
  MUST(all.size == 296960 && strstr(json, "\"from\": \"n64.sram\"") != NULL);
  bsw_text_free(json);
  bsw_bytes back = {NULL, 0, NULL};
  MUST(bsw_convert(home, all.data, all.size, NULL, 0, "{\"to\": \"n64.sram\", \"from\": \"n64.combined\"}", &back, &json) == BSW_OK);
  MUST(back.size == size && memcmp(back.data, save, size) == 0);
  bsw_text_free(json);
  bsw_bytes_free(&back);
  MUST(back.data == NULL);
  bsw_bytes_free(&back); /* twice is once */
  MUST(bsw_convert(home, save, size, all.data, all.size, "{\"to\": \"n64.combined\", \"from\": \"n64.sram\"}", &back, &json) == BSW_OK);
  MUST(back.size == all.size && memcmp(back.data, all.data, all.size) == 0);
  bsw_text_free(json);
  bsw_bytes_free(&back);
  bsw_bytes_free(&all);
  MUST(bsw_convert(home, save, size, NULL, 0, "{\"to\": \"n64.sramm\"}", &back, &json) == BSW_BAD_USAGE);
  MUST(bsw_convert(home, save, size, NULL, 0, "{}", &back, &json) == BSW_BAD_USAGE);
  MUST(back.data == NULL);
  free(save);
}

static void carry(bsw_home* home) {
  size_t size = 0;
  size_t now = 0;
  uint8_t* before = bytes_of(path("world/quay-tv/saves/Lantern Skiff (Europe).srm"), &size);
  bsw_plan* plan = NULL;
  char* json = NULL;
  int64_t entry = -1;
  MUST(bsw_plan_make(home, "{\"do\": \"carry\", \"what\": \"Lantern Skiff\", \"from\": \"bench\", \"to\": \"quay-tv\"}", NULL, NULL, &plan) == BSW_OK);
  MUST(bsw_plan_show(plan, &json) == BSW_OK && strstr(json, "\"refused\": false") != NULL);
  bsw_text_free(json);
  json = NULL;
  int asked = 0;
  MUST(bsw_plan_run(plan, cancels, &asked, &entry, &json) == BSW_CANCELLED && asked == 1 && entry == -1 && json == NULL);
  uint8_t* after = bytes_of(path("world/quay-tv/saves/Lantern Skiff (Europe).srm"), &now);
  MUST(now == size && memcmp(before, after, size) == 0); /* it may still run */
  free(after);
  asked = 0;
  MUST(bsw_plan_run(plan, count_events, &asked, &entry, &json) == BSW_OK && asked > 0 && entry > 0 && json != NULL);
  bsw_text_free(json);
  MUST(bsw_plan_run(plan, NULL, NULL, NULL, NULL) == BSW_BAD_USAGE); /* once */
  bsw_plan_free(plan);
  after = bytes_of(path("world/quay-tv/saves/Lantern Skiff (Europe).srm"), &now);
  MUST(now == size && memcmp(before, after, size) != 0);
  free(after);

  char request[100];
  snprintf(request, sizeof request, "{\"do\": \"undo\", \"entry\": %lld}", (long long)entry);
  MUST(bsw_plan_make(home, request, NULL, NULL, &plan) == BSW_OK);
  MUST(bsw_plan_run(plan, NULL, NULL, NULL, NULL) == BSW_OK);
  bsw_plan_free(plan);
  after = bytes_of(path("world/quay-tv/saves/Lantern Skiff (Europe).srm"), &now);
  MUST(now == size && memcmp(before, after, size) == 0);
  free(after);
  snprintf(request, sizeof request, "{\"do\": \"restore\", \"entry\": %lld}", (long long)entry);
  MUST(bsw_plan_make(home, request, NULL, NULL, &plan) == BSW_OK);
  MUST(bsw_plan_run(plan, NULL, NULL, &entry, NULL) == BSW_OK && entry > 0);
  bsw_plan_free(plan);
  free(before);

  MUST(bsw_plan_make(home, "{\"do\": \"carry-all\", \"from\": \"bench\", \"to\": \"quay-tv\"}", NULL, NULL, &plan) == BSW_OK);
  MUST(bsw_plan_show(plan, &json) == BSW_OK && strstr(json, "\"dry_run\": true") != NULL);
  bsw_text_free(json);
  asked = 0;
  MUST(bsw_plan_run(plan, count_events, &asked, &entry, &json) == BSW_OK);
  MUST(strstr(json, "\"carried\": 2") != NULL && strstr(json, "\"same\": 1") != NULL && asked > 0);
  bsw_text_free(json);
  bsw_plan_free(plan);

  snprintf(request, sizeof request, "{\"do\": \"fly\", \"to\": \"quay-tv\"}");
  plan = NULL;
  MUST(bsw_plan_make(home, request, NULL, NULL, &plan) == BSW_BAD_USAGE);
  MUST(bsw_plan_make(home, "{\"do\": \"undo\", \"entry\": 100000}", NULL, NULL, &plan) == BSW_NOT_FOUND);
  MUST(bsw_plan_make(home, "{\"do\": \"restore\"}", NULL, NULL, &plan) == BSW_BAD_USAGE);
  MUST(bsw_plan_make(home, "{\"do\": \"carry\", \"what\": \"x\", \"from\": \"bench\", \"to\": \"quay-tv\", \"accept\": [\"all\"]}", NULL, NULL, &plan) ==
       BSW_BAD_USAGE);
  MUST(plan == NULL);
  bsw_plan_free(NULL);
}

static void carry_file_and_back_up(bsw_home* home) {
  char* json = NULL;
  char request[8192];
  MUST(bsw_backup(home, "home-pc", "{\"what\": \"Gull Ledger\"}", &json) == BSW_OK);
  MUST(strstr(json, "\"kept\": ") != NULL);
  bsw_text_free(json);
  MUST(bsw_logbook(home, "{\"limit\": 3}", &json) == BSW_OK && strstr(json, "\"entries\"") != NULL);
  bsw_text_free(json);
  MUST(bsw_logbook(home, "{\"limit\": 0}", &json) == BSW_BAD_USAGE);
  bsw_plan* plan = NULL;
  snprintf(request, sizeof request, "{\"do\": \"carry-file\", \"what\": \"%s\", \"to\": \"quay-tv\", \"game\": \"Moth Courier\"}",
           path("world/bench/dumps/A99P.sav"));
  const bsw_status made = bsw_plan_make(home, request, NULL, NULL, &plan);
  MUST(made == BSW_OK && bsw_plan_show(plan, &json) == BSW_OK);
  bsw_text_free(json);
  bsw_plan_free(plan);
}

static void cards(void) {
  size_t size = 0;
  uint8_t* image = bytes_of(path("world/clubroom/cards/saltglass.card"), &size);
  bsw_card* card = NULL;
  bsw_card* fresh = NULL;
  char* json = NULL;
  MUST(bsw_card_open(image, size, 0, &card) == BSW_OK);
  MUST(bsw_card_list(card, &json) == BSW_OK && strstr(json, "BESLPS-99001SUVI") != NULL);
  bsw_text_free(json);
  bsw_bytes rgba = {NULL, 0, NULL};
  uint32_t width = 0;
  uint32_t height = 0;
  MUST(bsw_card_icon(card, "BESLPS-99001SUVI", 0, &width, &height, &rgba) == BSW_OK);
  MUST(width == 16 && height == 16 && rgba.size == 1024);
  bsw_bytes_free(&rgba);
  MUST(bsw_card_icon(card, "BESLPS-99001SUVI", 99, &width, &height, &rgba) == BSW_NOT_FOUND);
  bsw_bytes save = {NULL, 0, NULL};
  MUST(bsw_card_take(card, "BESLPS-99001SUVX", NULL, &save) == BSW_NOT_FOUND);
  MUST(bsw_card_take(card, "BESLPS-99001SUVI", "box", &save) == BSW_BAD_USAGE && save.data == NULL);
  for (int turn = 0; turn < 3; ++turn) {
    static const char* const forms[] = {NULL, "parcel", "payload"};
    MUST(bsw_card_take(card, "BESLPS-99001SUVI", forms[turn], &save) == BSW_OK && save.size >= 24576);
    if (turn < 2) {
      MUST(bsw_card_make("{\"kind\": \"ps1\"}", &fresh) == BSW_OK);
      MUST(bsw_card_add(fresh, save.data, save.size) == BSW_OK);
      MUST(bsw_card_add(fresh, save.data, save.size) == BSW_UNSAFE);
      MUST(bsw_card_drop(fresh, "BESLPS-99001SUVI") == BSW_OK);
      MUST(bsw_card_drop(fresh, "BESLPS-99001SUVI") == BSW_NOT_FOUND);
      MUST(bsw_card_undelete(fresh, "BESLPS-99001SUVI") == BSW_OK);
      bsw_bytes again = {NULL, 0, NULL};
      bsw_bytes first = {NULL, 0, NULL};
      MUST(bsw_card_take(card, "BESLPS-99001SUVI", "payload", &first) == BSW_OK);
      MUST(bsw_card_take(fresh, "BESLPS-99001SUVI", "payload", &again) == BSW_OK);
      MUST(again.size == first.size && memcmp(again.data, first.data, first.size) == 0);
      bsw_bytes_free(&again);
      bsw_bytes_free(&first);
      bsw_card_free(fresh);
    }
    bsw_bytes_free(&save);
  }
  bsw_bytes whole = {NULL, 0, NULL};
  MUST(bsw_card_image(card, &whole) == BSW_OK && whole.size == size && memcmp(whole.data, image, size) == 0);
  bsw_bytes_free(&whole);
  bsw_card_free(card);
  card = NULL;
  MUST(bsw_card_open(image, 1000, 0, &card) == BSW_NOT_RECOGNISED && card == NULL);
  MUST(bsw_card_make("{\"kind\": \"ps9\"}", &card) == BSW_BAD_USAGE && strstr(bsw_error(), "ps1") != NULL);
  MUST(bsw_card_make("{\"kind\": \"ps1\", \"blocks\": 3}", &card) == BSW_BAD_USAGE);
  bsw_card_free(NULL);
  free(image);
}

static void* on_a_thread(void* home) {
  for (int turn = 0; turn < 20; ++turn) {
    char* json = NULL;
    MUST(bsw_list(home, turn % 2 == 0 ? "bench" : "clubroom", NULL, NULL, NULL, &json) == BSW_OK);
    bsw_text_free(json);
    MUST(bsw_list(home, "no-such-place", NULL, NULL, NULL, &json) != BSW_OK);
    MUST(strstr(bsw_error(), "no-such-place") != NULL);
    cards();
  }
  return NULL;
}

/* A call out of the callback of another one would wait for itself. */
static int calls_again(void* home, const char* json) {
  char* text = NULL;
  (void)json;
  MUST(bsw_logbook(home, NULL, &text) == BSW_BUSY);
  return 1;
}

int main(int count, char** words) {
  MUST(count == 3);
  setenv("BAYSWAP_TOOL", words[1], 1);
  snprintf(folder, sizeof folder, "%s", words[2]);
  MUST(bsw_abi() == BSW_ABI && strlen(bsw_version()) > 0 && strcmp(bsw_error(), "{}") == 0);

  char home_folder[4096];
  snprintf(home_folder, sizeof home_folder, "%s", path("world/home"));
  bsw_home* home = NULL;
  char* json = NULL;
  MUST(bsw_home_open(home_folder, "{\"lock_seconds\": -1}", &home) == BSW_BAD_USAGE && home == NULL);
  {
    /* The demo world is made by the tool, through a home folder that is not its own. */
    char request[8192];
    char first[4096];
    snprintf(first, sizeof first, "%s", path("first-home"));
    snprintf(request, sizeof request, "{\"arguments\": [\"--out\", \"%s\"]}", path("world"));
    MUST(bsw_home_open(first, NULL, &home) == BSW_OK);
    int events = 0;
    MUST(bsw_call(home, "demo", request, count_events, &events, &json) == BSW_OK);
    bsw_text_free(json);
    MUST(bsw_call(home, "bay list", NULL, NULL, NULL, &json) == BSW_OK);
    bsw_text_free(json);
    MUST(bsw_call(home, "frobnicate", NULL, NULL, NULL, &json) == BSW_BAD_USAGE);
    MUST(bsw_call(home, "", NULL, NULL, NULL, &json) == BSW_BAD_USAGE);
    MUST(bsw_call(home, "card list", "{\"arguments\": [\"/no/such/card\"]}", NULL, NULL, &json) == BSW_NOT_FOUND);
    setenv("BAYSWAP_TOOL", "/no/such/program", 1);
    MUST(bsw_call(home, "bay list", NULL, NULL, NULL, &json) == BSW_NOT_FOUND);
    setenv("BAYSWAP_TOOL", words[1], 1);
    bsw_home_close(home);
  }
  MUST(bsw_home_open(home_folder, "{\"lock_seconds\": 5}", &home) == BSW_OK);
  bsw_home* second = NULL;
  MUST(bsw_home_open(home_folder, "{\"lock_seconds\": 0}", &second) == BSW_BUSY && second == NULL);
  look(home);
  convert(home);
  carry(home);
  carry_file_and_back_up(home);
  cards();
  MUST(bsw_list(home, "bench", NULL, calls_again, home, &json) == BSW_OK);
  bsw_text_free(json);

  pthread_t threads[2];
  for (int i = 0; i < 2; ++i) MUST(pthread_create(&threads[i], NULL, on_a_thread, home) == 0);
  for (int i = 0; i < 2; ++i) MUST(pthread_join(threads[i], NULL) == 0);

  /* A plan keeps its home folder open; the entries are the tool's as well. */
  bsw_plan* plan = NULL;
  MUST(bsw_plan_make(home, "{\"do\": \"undo\"}", NULL, NULL, &plan) == BSW_OK);
  bsw_home_close(home);
  MUST(bsw_plan_run(plan, NULL, NULL, NULL, NULL) == BSW_OK);
  bsw_plan_free(plan);
  MUST(bsw_home_open(home_folder, NULL, &home) == BSW_OK);
  MUST(bsw_call(home, "logbook", NULL, NULL, NULL, &json) == BSW_OK && strstr(json, "undo") != NULL);
  bsw_text_free(json);
  bsw_home_close(home);
  bsw_home_close(NULL);
  bsw_text_free(NULL);
  bsw_bytes_free(NULL);
  return 0;
}
