version https://git-lfs.github.com/spec/v1
oid sha256:342fd2da6e985d26ab238a2346536fd2de123dcafeb2d7f59c951de10ba13ebe
size 134264771
