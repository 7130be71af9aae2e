-- Names are compared byte for byte, spaces at the end included.
ALTER DATABASE CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;
