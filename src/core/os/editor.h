// The administrator's text editor.
#pragma once

#include <string>

namespace hambrel::os {

/// The program: $VISUAL, else $EDITOR, else vi.
std::string editor();
/// Lets the administrator edit a text, in a file that only they may read and that is gone afterwards; `name` tells the
/// editor what kind of file it is. Throws Error{Declined} if the editor could not be run or ended with a failure.
std::string edit_text(const std::string& text, const std::string& name);

}  // namespace hambrel::os
