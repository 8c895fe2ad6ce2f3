#include "report/page.h"

#include <fmt/chrono.h>
#include <fmt/format.h>
#include <openssl/evp.h>

#include <ctime>

#include "model/text.h"
#include "model/words.h"

namespace undershelf {
namespace {

constexpr std::string_view kStyle = R"css(
body { font: 15px/1.5 system-ui, "DejaVu Sans", sans-serif; color: #292b33; background: #fff;
       max-width: 1040px; margin: 2em auto; padding: 0 1.5em; }
h1 { font-size: 1.8em; margin: 0 0 .2em; } h2 { font-size: 1.25em; margin: 2em 0 .5em; }
table { border-collapse: collapse; width: 100%; margin: .6em 0; font-size: .93em; }
th, td { text-align: left; padding: .3em .7em .3em 0; border-bottom: 1px solid #d9d8d3;
         vertical-align: top; overflow-wrap: anywhere; }
th { color: #5b5e66; font-weight: 600; overflow-wrap: normal; } td.n, th.n { text-align: right; white-space: nowrap; }
.head { color: #5b5e66; } .lead { font-size: 1.1em; margin: 1em 0; }
figure { margin: 1em 0; } figure img { width: 100%; height: auto; border: 1px solid #d9d8d3; }
figcaption { color: #5b5e66; font-size: .9em; }
@media print { body { margin: 0; max-width: none; font-size: 11px; } figure, tr { break-inside: avoid; }
               h2 { break-after: avoid; } @page { margin: 15mm; } }
)css";

// Names come off a disk: what steers a terminal is escaped, and what steers a page.
std::string escaped(std::string_view text) {
  std::string out;
  for (const char c : printable(std::string(text))) {
    switch (c) {
      case '&':
        out += "&amp;";
        break;
      case '<':
        out += "&lt;";
        break;
      case '>':
        out += "&gt;";
        break;
      case '"':
        out += "&quot;";
        break;
      case '\'':
        out += "&#39;";
        break;
      default:
        out += c;
    }
  }
  return out;
}

std::string line(std::string_view name, std::string_view value) {
  return value.empty() ? std::string()
                       : fmt::format("<tr><th>{}</th><td>{}</td></tr>\n", name, escaped(value));
}

std::string head(const ReportFacts& facts) {
  const std::time_t now = std::time(nullptr);
  std::string text = "<header>\n<h1>What was found, and what comes back</h1>\n<p class=head>";
  std::vector<std::string> parts;
  if (!facts.header.shop.empty()) parts.push_back(escaped(facts.header.shop));
  if (!facts.header.job.empty()) parts.push_back("case " + escaped(facts.header.job));
  if (!facts.header.customer.empty()) parts.push_back("for " + escaped(facts.header.customer));
  parts.push_back(fmt::format("{:%Y-%m-%d}", fmt::gmtime(now)));
  return text + fmt::format("{}</p>\n</header>\n", fmt::join(parts, " · "));
}

// The answer, before all tables.
std::string lead(const ReportFacts& facts) {
  const uint64_t lost = facts.lost.totals.content();
  if (lost == 0) {
    return fmt::format("<p class=lead>{} are there. None of what was looked for is lost.</p>\n",
                       counted(facts.all.totals.content(), "file"));
  }
  return fmt::format(
      "<p class=lead>{} {} lost. We expect <b>{:.0f} of them to come back exactly as they "
      "were</b>. "
      "Of {}, some parts are missing; of {}, only the name is left.</p>\n",
      counted(lost, "file"), lost == 1 ? "is" : "are", facts.lost.expected,
      counted(facts.lost.partial, "file"), counted(facts.lost.gone, "file"));
}

std::string examined(const ReportFacts& facts) {
  std::string text = "<h2>What was examined</h2>\n<table>\n";
  text += line("Source", facts.source.path);
  text +=
      line("Size", fmt::format("{} ({} bytes)", table_size(facts.source.size), facts.source.size));
  text += line("Serial number", facts.source.serial);
  text += line("Sector size", counted(facts.source.sector_size, "byte"));
  text += line("Fingerprint",
               facts.source_hash.empty()
                   ? ""
                   : fmt::format("SHA-256 {} over {} spread over the source", facts.source_hash,
                                 counted(facts.source.blocks.size(), "block")));
  for (const ScanRecord& scan : facts.scans) {
    text += line("Scan",
                 fmt::format("{}, content checked: {}, {}, {} to {}", scan.depth, scan.check,
                             scan.state, scan.started, scan.ended.empty() ? "now" : scan.ended));
  }
  text += line("Program", fmt::format("undershelf {}", UNDERSHELF_VERSION));
  text += line("Selection", facts.described.empty() ? "everything" : facts.described);
  return text + "</table>\n<p>The source was only read. Nothing was written to it.</p>\n";
}

std::string volumes(const ReportFacts& facts) {
  std::string text =
      "<h2>Volumes</h2>\n<table>\n<tr><th>Nr<th>Kind<th>Name<th>Serial<th class=n>Begins at<th "
      "class=n>Size<th class=n>Sure<th class=n>There<th class=n>Deleted<th class=n>Former</tr>\n";
  for (const VolumeRecord& v : facts.volumes) {
    text += fmt::format(
        "<tr><td>{}<td>{}{}<td>{}<td>{}<td class=n>{}<td class=n>{}<td class=n>{} %<td "
        "class=n>{}<td class=n>{}<td class=n>{}</tr>\n",
        v.id, v.volume.file_system, v.volume.standing == "former" ? ", former" : "",
        escaped(v.volume.label), escaped(v.volume.serial), v.volume.offset,
        table_size(v.volume.length), v.volume.confidence, v.live, v.deleted, v.former);
  }
  return text +
         "</table>\n<p>A former volume is what is left of one that was formatted over or "
         "removed. Files of it count as former.</p>\n";
}

std::string groups(const std::vector<Group>& groups, const Group& sum, std::string_view what) {
  std::string text = fmt::format(
      "<table>\n<tr><th>{}<th class=n>Files<th class=n>Size<th class=n>Whole<th class=n>Likely<th "
      "class=n>Partial<th class=n>Gone<th class=n>Expected</tr>\n",
      what);
  const auto add = [&](const std::string& name, const Group& group, uint64_t expected) {
    text += fmt::format(
        "<tr><td>{}<td class=n>{}<td class=n>{}<td class=n>{}<td class=n>{}<td class=n>{}<td "
        "class=n>{}<td class=n>{}</tr>\n",
        name, group.totals.content(), table_size(group.totals.bytes), group.whole, group.likely,
        group.partial, group.gone, expected);
  };
  const std::vector<uint64_t> expected = whole_expectations(groups);
  for (size_t i = 0; i < groups.size(); ++i) {
    add(groups[i].value.empty() ? "none" : escaped(groups[i].value), groups[i], expected[i]);
  }
  add("<b>in all</b>", sum, static_cast<uint64_t>(std::llround(sum.expected)));
  return text + "</table>\n";
}

// Each as an image of its own: what one SVG names inside must not meet another's names.
std::string image(std::string_view kind, const std::string& file, std::string_view alt) {
  std::string encoded((file.size() + 2) / 3 * 4 + 1, '\0');
  const int length = EVP_EncodeBlock(reinterpret_cast<unsigned char*>(encoded.data()),
                                     reinterpret_cast<const unsigned char*>(file.data()),
                                     static_cast<int>(file.size()));
  encoded.resize(static_cast<size_t>(length));
  return fmt::format("<img alt=\"{}\" src=\"data:image/{};base64,{}\">\n", alt, kind, encoded);
}

std::string figure(const std::string& svg, std::string_view name, std::string_view caption) {
  return fmt::format(
      "<figure>\n{}<figcaption>{}: data in {}.csv, picture in {}.png and {}.svg."
      "</figcaption>\n</figure>\n",
      image("svg+xml", svg, caption), caption, name, name, name);
}

std::string sheet(const std::string& png) {
  if (png.empty()) return {};
  return "<h2>Pictures</h2>\n<figure>\n" + image("png", png, "Small pictures of lost files") +
         "<figcaption>Lost pictures and first frames of lost videos, with size and rating; the "
         "first of them, in sheet.png."
         "</figcaption>\n</figure>\n";
}

std::string outlook(const ReportFacts& facts, const PageFigures& figures) {
  std::string text = "<h2>What was found</h2>\n" + groups(facts.types, facts.all, "Type");
  text +=
      "<p>What lies beside a file's main content (another stream, a resource fork) counts as a "
      "file here. By where it was found: ";
  std::vector<std::string> states;
  for (const Group& group : facts.states) {
    states.push_back(fmt::format("{} {}", escaped(group.value), group.totals.content()));
  }
  text +=
      fmt::format("{}.</p>\n<h2>What comes back of what is lost</h2>\n", fmt::join(states, ", "));
  text += groups(facts.lost_types, facts.lost, "Type");
  text += figure(figures.outlook, "outlook", "What comes back");
  return text +
         "<ul>\n<li><b>Whole</b>: every byte is there, and nothing speaks against it. Of 1,000 "
         "such "
         "files at least 995 come back exactly as they were.\n<li><b>Likely</b>: every byte seems "
         "to be there, but not all of it is proven. Of 100 such files at least 90 come back "
         "exactly.\n<li><b>Partial</b>: some of it is missing or doubtful; pictures may open in "
         "part, other files may not.\n<li><b>Gone</b>: the name is known, the content is "
         "overwritten or nowhere to be found.\n<li><b>Expected</b>: how many come back exactly, by "
         "the chances of each.\n</ul>\n";
}

std::string reasons(const ReportFacts& facts) {
  const auto told = [](std::string_view why) -> std::string_view {
    if (why == "overwritten") return "something newer was written in their place";
    if (why == "unreadable") return "the medium could not be read there";
    if (why == "unread") return "the medium was not read there yet";
    if (why == "contested") return "two files claim the same place";
    if (why == "blank") return "their place reads as blank: it was discarded or wiped";
    if (why == "undecodable") return "what is stored cannot be unpacked";
    return "nothing tells where all of their content lies, or proves that it is theirs";
  };
  if (facts.losses.empty()) return {};
  std::string text =
      "<p>Why lost files are not all whole (one may count several times):</p>\n<ul>\n";
  for (const auto& [why, files] : facts.losses) {
    text += fmt::format("<li>{}: {}\n", counted(files, "file"), told(why));
  }
  return text + "</ul>\n";
}

std::string damage(const ReportFacts& facts) {
  const uint64_t unreadable = facts.map.sums[static_cast<size_t>(Ground::unreadable)];
  std::string text = "<h2>What could not be read</h2>\n";
  if (unreadable == 0 && facts.damage == 0)
    return text + "<p>Everything that was needed was read.</p>\n";
  text += fmt::format(
      "<p>{} of the source that files need could not be read. Damage was met in "
      "{}.</p>\n",
      table_size(unreadable), counted(facts.damage, "place"));
  if (!facts.damage_sentences.empty()) {
    text += "<ul>\n";
    for (const std::string& sentence : facts.damage_sentences) {
      text += fmt::format("<li>{}\n", escaped(sentence));
    }
    text += "</ul>\n";
    if (facts.damage > facts.damage_sentences.size()) {
      text += fmt::format("<p>And {} such places more.</p>\n",
                          facts.damage - facts.damage_sentences.size());
    }
  }
  return text;
}

std::string list(const ReportFacts& facts, const std::string& rows) {
  std::string text = "<h2>The files</h2>\n";
  if (rows.empty()) {
    return text + fmt::format(
                      "<p>{} are listed in <a href=\"files.csv\">files.csv</a>, beside this "
                      "page.</p>\n",
                      counted(facts.rows, "file"));
  }
  return text + fmt::format(
                    "<p>{}; with more of each in <a href=\"files.csv\">files.csv</a>. Times are in "
                    "{}.</p>\n<table>\n<tr><th>Path<th>State<th class=n>Size<th>Changed<th>Rating"
                    "</tr>\n{}</table>\n",
                    counted(facts.rows, "file"), escaped(facts.zone), rows);
}

}  // namespace

std::string page_row(const Row& row, const Zone& zone) {
  return fmt::format("<tr><td>{}<td>{}<td class=n>{}<td>{}<td>{}</tr>\n", escaped(row.path),
                     row.state, row.size ? table_size(*row.size) : "?",
                     row.modified ? day_of(*row.modified, zone) : "",
                     row.rating ? fmt::format("{} {}", *row.rating, row.score.value_or(0)) : "");
}

std::string page_of(const ReportFacts& facts, const PageFigures& figures, const std::string& rows) {
  std::string page = fmt::format(
      "<!doctype html>\n<html lang=en>\n<head>\n<meta charset=utf-8>\n<meta name=viewport "
      "content=\"width=device-width\">\n<title>What was found{}</title>\n<style>{}</style>\n"
      "</head>\n<body>\n",
      facts.header.job.empty() ? "" : ": " + escaped(facts.header.job), kStyle);
  page += head(facts) + lead(facts) + examined(facts) + volumes(facts) + outlook(facts, figures) +
          reasons(facts) + damage(facts);
  page += "<h2>Where it lies</h2>\n" + figure(figures.map, "map", "Map of the source");
  page += "<h2>When it was changed and deleted</h2>\n" +
          figure(figures.time_line, "time-line", "Files by their times");
  page += sheet(figures.sheet);
  return page + list(facts, rows) + "</body>\n</html>\n";
}

}  // namespace undershelf
