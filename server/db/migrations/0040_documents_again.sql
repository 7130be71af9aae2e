-- Which reference each use is of was lost between threads, so that what references share was told as apart: documents are read once more.
UPDATE `documents` SET `read_modified_us` = 0 WHERE `format` = 'otio' AND `state` = 'read';
