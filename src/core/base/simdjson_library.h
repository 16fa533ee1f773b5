// simdjson, loaded when the first document is parsed: it stands on the shared libstdc++, which costs every start of the
// program a millisecond that most commands have no use for.
#pragma once

namespace hambrel {

/// What simdjson says of one of its error codes, a number.
const char* simdjson_message(int error);

/// To be called before a parser is made ready. Throws Error{Internal} if the library is not there.
void load_simdjson();

}  // namespace hambrel
