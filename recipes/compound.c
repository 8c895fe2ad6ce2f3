/* Compound files by libgsf: what documents and messages of older office programs are kept in.
 *
 *   cc compound.c $(pkg-config --cflags --libs libgsf-1) -o compound && ./compound FOLDER
 *
 * Writes titled.doc, with the properties that office programs write, and message.msg, with streams named as those of a
 * message are. */
#include <gsf/gsf-doc-meta-data.h>
#include <gsf/gsf-meta-names.h>
#include <gsf/gsf-msole-utils.h>
#include <gsf/gsf-outfile-msole.h>
#include <gsf/gsf-output-stdio.h>
#include <gsf/gsf-timestamp.h>
#include <gsf/gsf-utils.h>

static GsfOutfile* begin(const char* folder, const char* name) {
  char* path = g_build_filename(folder, name, NULL);
  GsfOutput* file = gsf_output_stdio_new(path, NULL);
  g_free(path);
  return gsf_outfile_msole_new(file);
}

static void add(GsfOutfile* root, const char* name, const void* bytes, size_t size) {
  GsfOutput* stream = gsf_outfile_new_child(root, name, FALSE);
  gsf_output_write(stream, size, bytes);
  gsf_output_close(stream);
  g_object_unref(stream);
}

static void add_text(GsfOutfile* root, const char* name, const char* text) {
  glong units = 0;
  gunichar2* wide = g_utf8_to_utf16(text, -1, NULL, &units, NULL);
  add(root, name, wide, (size_t)units * 2);
  g_free(wide);
}

static void end(GsfOutfile* root) {
  gsf_output_close(GSF_OUTPUT(root));
  g_object_unref(root);
}

static void set_text(GsfDocMetaData* about, const char* name, const char* text) {
  GValue* value = g_new0(GValue, 1);
  g_value_init(value, G_TYPE_STRING);
  g_value_set_string(value, text);
  gsf_doc_meta_data_insert(about, g_strdup(name), value);
}

static void document(const char* folder) {
  GsfOutfile* root = begin(folder, "titled.doc");
  GsfDocMetaData* about = gsf_doc_meta_data_new();
  set_text(about, GSF_META_NAME_TITLE, "Pegel K\303\274ste, M\303\244rz");
  set_text(about, GSF_META_NAME_CREATOR, "Ebb Works");
  GsfTimestamp* made = gsf_timestamp_new();
  gsf_timestamp_set_time(made, 1775124900); /* 2026-04-02 10:15:00 */
  GValue* value = g_new0(GValue, 1);
  g_value_init(value, GSF_TIMESTAMP_TYPE);
  gsf_value_set_timestamp(value, made);
  gsf_doc_meta_data_insert(about, g_strdup(GSF_META_NAME_DATE_CREATED), value);
  GsfOutput* stream = gsf_outfile_new_child(root, "\05SummaryInformation", FALSE);
  gsf_doc_meta_data_write_to_msole(about, stream, FALSE);
  gsf_output_close(stream);
  g_object_unref(stream);
  static char words[8000];
  for (size_t i = 0; i < sizeof words; ++i) words[i] = "Levels of the week. "[i % 20];
  add(root, "WordDocument", words, sizeof words);
  end(root);
  g_object_unref(about);
}

static void message(const char* folder) {
  GsfOutfile* root = begin(folder, "message.msg");
  add_text(root, "__substg1.0_0037001F", "Pegel K\303\274ste, M\303\244rz");
  add_text(root, "__substg1.0_0C1A001F", "Gauge desk");
  /* A head of 32 bytes, then tag, flags and value of each: its flags, and when it was sent. */
  const guint64 sent = (G_GUINT64_CONSTANT(1775124900) + G_GUINT64_CONSTANT(11644473600)) * 10000000;
  const guint32 properties[] = {0, 0, 0, 0, 0, 0, 0, 0, 0x0E070003, 6, 1, 0, 0x00390040, 6,
                                (guint32)sent, (guint32)(sent >> 32)};
  add(root, "__properties_version1.0", properties, sizeof properties);
  end(root);
}

int main(int count, char** arguments) {
  if (count != 2) return 2;
  gsf_init();
  document(arguments[1]);
  message(arguments[1]);
  gsf_shutdown();
  return 0;
}
