/**
 * Folders of files: {@link dripledger.connectors.file.FileConnector} looks, {@link
 * dripledger.connectors.file.FileFeed} reads on, {@link dripledger.connectors.file.FileRecords}
 * knows the forms of files.
 */
package dripledger.connectors.file;
