#!/bin/sh
exec grep "^$1" /usr/share/signal-book/book
