"""Packages of this machine's own tools, so that recipes have something to be built with: a compiler and what it needs,
make, shells, coreutils and the like, packed from the files at hand by what their ELF files need.

machine_packages.py HAMBREL REPOSITORY [NAME...]: makes these (default: all that the machine has), and publishes them.
"""
import glob
import os
import shutil
import subprocess
import sys
import tempfile

sys.path.insert(0, os.path.dirname(os.path.abspath(__file__)))
import elf

ARCH = os.uname().machine
TRIPLET = f"{ARCH}-linux-gnu"
LINKS = {"bin": "usr/bin", "sbin": "usr/sbin", "lib": "usr/lib", "lib64": "usr/lib64"}
SHELL = ("sh bash cat chmod cp cut date dirname basename echo env expr false head id install ln ls mkdir mktemp mv od "
         "printf pwd rm rmdir sed seq sleep sort stat tail tee test touch tr true tsort uname uniq wc grep egrep awk "
         "gawk find xargs diff cmp tar gzip xz patch hostname sha256sum nproc readlink realpath comm join paste "
         "fold nl getconf ldd").split()
COMPILER = "gcc cc cpp as ld ld.bfd ar ranlib nm strip objcopy objdump readelf gcc-ar gcc-ranlib gcc-nm c99".split()
RUNTIME = "libgcc_s.so.1 libstdc++.so.6 libcrypt.so.1 libdl.so.2 libpthread.so.0 librt.so.1 libm.so.6".split()
HEADERS = ("arpa asm-generic bits linux misc mtd net netash netatalk netax25 neteconet netinet netipx netiucv netpacket "
           "netrom netrose nfs protocols rdma rpc scsi sound video xen drm").split()
HEADERS_OF_MACHINE = "a.out.h asm bits fpu_control.h gnu ieee754.h sys".split()
LIBRARIES = ("crt1.o crti.o crtn.o Scrt1.o gcrt1.o rcrt1.o Mcrt1.o libc.so libc_nonshared.a libc.a libm.so libm.a "
             "libm-2.36.a libmvec.a libmvec.so libpthread.a libdl.a librt.a libutil.a libresolv.a libresolv.so "
             "libcrypt.so libcrypt.a").split()
# of libraries that are not of the C library, headers beside its own are left out
C_HEADERS = ("aio aliases alloca argp argz ar assert byteswap complex cpio crypt ctype dirent dlfcn elf endian envz err "
             "errno error execinfo fcntl features features-time64 fenv fmtmsg fnmatch fstab fts ftw gconv getopt glob "
             "grp gshadow iconv ifaddrs inttypes langinfo lastlog libgen libintl limits link locale malloc math mcheck "
             "memory mntent monetary mqueue netdb nl_types nss obstack paths poll printf proc_service pthread pty pwd "
             "re_comp regex regexp resolv sched search semaphore setjmp sgtty shadow signal spawn stab stdc-predef "
             "stdint stdio stdio_ext stdlib string strings syscall sysexits syslog tar termio termios tgmath thread_db "
             "threads time ttyent uchar ucontext ulimit unistd utime utmp utmpx values wait wchar wctype wordexp "
             "_G_config").split()


class Package:
    def __init__(self, name, requires=(), provides=()):
        self.name, self.requires, self.provides = name, list(requires), list(provides)
        self.paths = set()

    def add(self, path):
        """A file or a link of the machine, with what it leads to and what it needs."""
        path = canonical(path)
        holder = taken.setdefault(path, self.name)
        if holder != self.name and holder not in self.requires:
            self.requires.append(holder)
        if path in self.paths or holder != self.name:
            return
        self.paths.add(path)
        if os.path.islink(path):
            self.add(os.path.join(os.path.dirname(path), os.readlink(path)))
            return
        interpreter, libraries = elf.needs(path)
        if interpreter:
            self.add(interpreter)
        for one in libraries:
            self.add(elf.library(one, "/bin/sh"))

    def program(self, name):
        found = shutil.which(name, path="/usr/bin:/usr/sbin:/bin:/sbin")
        if found:
            self.add(found)
        return found

    def tree(self, top):
        for directory, _, names in os.walk(top):
            for name in names:
                path = os.path.join(directory, name)
                if os.path.exists(path):
                    self.add(path)

    def pack(self, hambrel, repository):
        with tempfile.TemporaryDirectory(dir=os.path.dirname(os.path.abspath(repository))) as source:
            lists = "".join(f"{key} = [{', '.join(repr(one) for one in sorted(names))}]\n"
                            for key, names in (("requires", self.requires), ("provides", self.provides)))
            with open(f"{source}/package.toml", "w") as file:
                file.write(f'name = "{self.name}"\nversion = "1-1"\narch = "{ARCH}"\nlicense = "MIT"\n'
                           f'summary = "{self.name} of this machine"\n[relations]\n{lists}')
            os.makedirs(f"{source}/root/usr/bin")
            for path in sorted(self.paths):
                there = f"{source}/root{path}"
                os.makedirs(os.path.dirname(there), exist_ok=True)
                if os.path.islink(path):
                    os.symlink(os.readlink(path), there)
                else:
                    shutil.copy2(path, there)
                    os.chmod(there, os.stat(path).st_mode & 0o755)
            if self.name == "base-tools":
                for name, target in LINKS.items():
                    os.makedirs(f"{source}/root/{target}", exist_ok=True)
                    os.symlink(target, f"{source}/root/{name}")
            place = f"{repository}/packages/{self.name}"
            os.makedirs(place, exist_ok=True)
            subprocess.run([hambrel, "pack", "-q", source, "--level", "1", "-o", f"{place}/1-1.{ARCH}.hambrel"], check=True)


taken = {}  # path -> the name of the package that has it


def canonical(path):
    """With links in its directory followed, as the packages bring /bin and the like as links."""
    directory, name = os.path.split(os.path.normpath(path))
    return os.path.join(os.path.realpath(directory), name)


def base_tools():
    package = Package("base-tools", provides=["sh"])
    for name in SHELL:
        package.program(name)
    for name in RUNTIME:
        package.add(elf.library(name, "/bin/sh"))
    return package


def c_compiler():
    package = Package("c-compiler", ["base-tools"])
    for name in COMPILER:
        package.program(name)
    gcc = os.path.dirname(subprocess.run(["gcc", "-print-file-name=libgcc.a"], capture_output=True, text=True).stdout)
    for path in glob.glob(f"{gcc}/*"):
        name = os.path.basename(path)
        if os.path.isfile(path) and name not in ("cc1plus", "lto1", "d21", "f951", "gnat1", "cc1obj", "g++-mapper-server"):
            package.add(path)
    package.tree(f"{gcc}/include")
    package.tree(f"{gcc}/plugin/none")
    for name in HEADERS:
        package.tree(f"/usr/include/{name}")
    for name in HEADERS_OF_MACHINE:
        path = f"/usr/include/{TRIPLET}/{name}"
        package.tree(path) if os.path.isdir(path) else os.path.exists(path) and package.add(path)
    for name in C_HEADERS:
        for path in glob.glob(f"/usr/include/{name}.h"):
            package.add(path)
    for name in LIBRARIES:
        path = f"/usr/lib/{TRIPLET}/{name}"
        if os.path.exists(path):
            package.add(path)
    for path in glob.glob(f"/usr/lib/{TRIPLET}/lib[cm].so.6") + glob.glob(f"/usr/lib/{TRIPLET}/libmvec.so.1"):
        package.add(path)
    return package


def cxx_compiler():
    package = Package("cxx-compiler", ["c-compiler"])
    for name in ("g++", "c++"):
        package.program(name)
    gcc = os.path.dirname(subprocess.run(["gcc", "-print-file-name=libgcc.a"], capture_output=True, text=True).stdout)
    for name in ("cc1plus", "libstdc++.so", "libstdc++.a", "libsupc++.a"):
        if os.path.exists(f"{gcc}/{name}"):
            package.add(f"{gcc}/{name}")
    package.tree("/usr/include/c++")
    package.tree(f"/usr/include/{TRIPLET}/c++")
    return package


def programs(name, *more, trees=()):
    def make():
        package = Package(name, ["base-tools"])
        found = [one for one in (name, *more) if package.program(one)]
        for tree in trees:
            package.tree(tree)
        return package if found else None
    return make


MAKERS = {
    "base-tools": base_tools,
    "c-compiler": c_compiler,
    "cxx-compiler": cxx_compiler,
    "make": programs("make", "gmake"),
    "pkg-config": programs("pkg-config", "pkgconf"),
    "cmake": programs("cmake", "ctest", trees=glob.glob("/usr/share/cmake*")),
    "ninja": programs("ninja"),
    "perl": programs("perl", trees=glob.glob(f"/usr/share/perl/5*") + glob.glob(f"/usr/lib/{TRIPLET}/perl/5*")
                     + glob.glob(f"/usr/lib/{TRIPLET}/perl-base")),
    "python3": programs("python3", trees=glob.glob("/usr/lib/python3.[0-9]*")),
}


def make(hambrel, repository, names=None):
    for name, maker in MAKERS.items():  # in this order: what one brings, later ones leave out
        package = maker()
        if package and (not names or name in names):
            package.pack(hambrel, repository)
    subprocess.run([hambrel, "publish", "-q", repository], check=True)


if __name__ == "__main__":
    make(os.path.abspath(sys.argv[1]), sys.argv[2], sys.argv[3:])
