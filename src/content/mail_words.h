// Headers of mail, as people read them. For the library's own use.
#pragma once

#include <string>
#include <string_view>

namespace undershelf::content {

// The first field of a name ("subject") in a message that begins with its head; its lines joined
// (RFC 5322, 2.2.3), without blanks at its ends, its encoded words (RFC 2047) decoded. UTF-8; empty
// if there is none.
std::string mail_field(std::string_view message, std::string_view name);

// What stands between the parts of such a message (RFC 2046, 5.1.1), in lower case and without the
// two dashes; empty if it has no parts, or its head goes on behind what is given.
std::string mail_boundary(std::string_view message);

// A date as such a field has it (RFC 5322, 3.3), "Mon, 6 Apr 2026 10:15:00 +0200", as Description
// has it, in UTC; empty if it is none.
std::string date_of_mail(const std::string& field);

}  // namespace undershelf::content
