//! The tree of all points, as a WebDAV server wants it (RFC 4918). Nothing in it can be changed.

use std::fmt;
use std::io::SeekFrom;
use std::sync::Arc;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use bytes::{Buf, Bytes};
use dav_server::davpath::DavPath;
use dav_server::fs::{
    DavDirEntry, DavFile, DavFileSystem, DavMetaData, FsError, FsFuture, FsResult, FsStream, OpenOptions, ReadDirMeta,
};
use futures_util::FutureExt;
use futures_util::future::ready;
use futures_util::stream;

use super::Mounted;
use super::past::{Item, What};
use crate::content_reader::ContentReader;
use crate::error::ClientError;

/// What a server is given.
#[derive(Clone)]
pub(super) struct PastFileSystem(pub(super) Arc<Mounted>);

impl PastFileSystem {
    /// Does what waits for the service where that holds up nobody else.
    async fn with<T: Send + 'static>(
        &self,
        work: impl FnOnce(&Mounted) -> Result<T, ClientError> + Send + 'static,
    ) -> FsResult<T> {
        let mounted = Arc::clone(&self.0);
        let done = tokio::task::spawn_blocking(move || work(&mounted)).await;
        done.map_err(|_| FsError::GeneralFailure)?.map_err(|_| FsError::GeneralFailure)
    }

    async fn at(&self, path: &DavPath) -> FsResult<Item> {
        let path = path.as_bytes().to_vec();
        self.with(move |mounted| mounted.noting(&path, |past| past.at(&path))).await?.ok_or(FsError::NotFound)
    }
}

impl DavFileSystem for PastFileSystem {
    fn open<'a>(&'a self, path: &'a DavPath, options: OpenOptions) -> FsFuture<'a, Box<dyn DavFile>> {
        async move {
            if options.write || options.append || options.create {
                return Err(FsError::Forbidden);
            }
            let item = self.at(path).await?;
            let What::File { point, content } = &item.what else { return Err(FsError::Forbidden) };
            let file = Arc::new(self.0.past.open(content.clone()));
            let (point, path, facts) = (*point, Arc::from(path.as_bytes()), Facts::of(&item));
            Ok(Box::new(OpenFile { of: self.clone(), point, path, file, facts, at: 0 }) as Box<dyn DavFile>)
        }
        .boxed()
    }

    fn read_dir<'a>(&'a self, path: &'a DavPath, _: ReadDirMeta) -> FsFuture<'a, FsStream<Box<dyn DavDirEntry>>> {
        async move {
            let What::Folder(folder) = self.at(path).await?.what else { return Err(FsError::Forbidden) };
            let path = path.as_bytes().to_vec();
            let items = self.with(move |mounted| mounted.noting(&path, |past| past.list(&folder))).await?;
            let entries = items.into_iter().map(|item| Ok(Box::new(item) as Box<dyn DavDirEntry>));
            Ok(Box::pin(stream::iter(entries)) as FsStream<Box<dyn DavDirEntry>>)
        }
        .boxed()
    }

    fn metadata<'a>(&'a self, path: &'a DavPath) -> FsFuture<'a, Box<dyn DavMetaData>> {
        async move { Ok(Box::new(Facts::of(&self.at(path).await?)) as Box<dyn DavMetaData>) }.boxed()
    }
}

impl DavDirEntry for Item {
    fn name(&self) -> Vec<u8> {
        self.name.clone()
    }

    fn metadata(&self) -> FsFuture<'_, Box<dyn DavMetaData>> {
        ready(Ok(Box::new(Facts::of(self)) as Box<dyn DavMetaData>)).boxed()
    }
}

/// What is told of an item. A folder may have very many.
#[derive(Debug, Clone, Copy)]
struct Facts {
    len: u64,
    modified: i64,
    is_folder: bool,
}

impl Facts {
    fn of(item: &Item) -> Self {
        Self { len: item.len(), modified: item.modified, is_folder: matches!(item.what, What::Folder(_)) }
    }
}

impl DavMetaData for Facts {
    fn len(&self) -> u64 {
        self.len
    }

    fn modified(&self) -> FsResult<SystemTime> {
        // The protocol has no times before 1970.
        Ok(UNIX_EPOCH + Duration::from_secs(self.modified.max(0).cast_unsigned()))
    }

    fn is_dir(&self) -> bool {
        self.is_folder
    }
}

/// A file that is read.
struct OpenFile {
    of: PastFileSystem,
    point: u64,
    path: Arc<[u8]>,
    file: Arc<ContentReader>,
    facts: Facts,
    at: u64,
}

impl fmt::Debug for OpenFile {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("OpenFile").field("at", &self.at).finish_non_exhaustive()
    }
}

impl DavFile for OpenFile {
    fn metadata(&mut self) -> FsFuture<'_, Box<dyn DavMetaData>> {
        ready(Ok(Box::new(self.facts) as Box<dyn DavMetaData>)).boxed()
    }

    fn write_buf(&mut self, _: Box<dyn Buf + Send>) -> FsFuture<'_, ()> {
        ready(Err(FsError::Forbidden)).boxed()
    }

    fn write_bytes(&mut self, _: Bytes) -> FsFuture<'_, ()> {
        ready(Err(FsError::Forbidden)).boxed()
    }

    fn read_bytes(&mut self, count: usize) -> FsFuture<'_, Bytes> {
        async move {
            let (point, path, file, at) = (self.point, Arc::clone(&self.path), Arc::clone(&self.file), self.at);
            let read = move |mounted: &Mounted| mounted.noting(&path, |_| mounted.read(point, &path, &file, at, count));
            let bytes = self.of.with(read).await?;
            self.at += bytes.len() as u64;
            Ok(bytes.into())
        }
        .boxed()
    }

    fn seek(&mut self, to: SeekFrom) -> FsFuture<'_, u64> {
        let to = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => self.file.len().checked_add_signed(by),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
        };
        self.at = to.unwrap_or(self.at);
        ready(to.ok_or(FsError::GeneralFailure)).boxed()
    }

    fn flush(&mut self) -> FsFuture<'_, ()> {
        ready(Ok(())).boxed()
    }
}
