// Package editor is the extension for an editor, as a file that the editor installs.
package editor

import (
	"archive/zip"
	"embed"
	"fmt"
	"io"
	"io/fs"
	"path"
)

//go:embed parrot.tmLanguage.json vscode
var files embed.FS

// The two files that make a zip archive an extension (Open Packaging Conventions, ECMA-376 part 2, with
// the manifest that the editor reads).
const (
	types = `<?xml version="1.0" encoding="utf-8"?>
<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="json" ContentType="application/json"/><Default Extension="js" ContentType="application/javascript"/><Default Extension="md" ContentType="text/markdown"/><Default Extension="vsixmanifest" ContentType="text/xml"/></Types>
`
	manifest = `<?xml version="1.0" encoding="utf-8"?>
<PackageManifest Version="2.0.0" xmlns="http://schemas.microsoft.com/developer/vsx-schema/2011">
  <Metadata>
    <Identity Language="en-US" Id="uparrot" Version="0.1.0" Publisher="uparrot"/>
    <DisplayName>Upright Parrot</DisplayName>
    <Description xml:space="preserve">Procedures, phrasebooks and benches: mistakes, completion, renaming, rehearsal</Description>
    <Categories>Programming Languages,Linters,Formatters</Categories>
    <Properties><Property Id="Microsoft.VisualStudio.Code.Engine" Value="^1.75.0"/></Properties>
  </Metadata>
  <Installation><InstallationTarget Id="Microsoft.VisualStudio.Code"/></Installation>
  <Dependencies/>
  <Assets>
    <Asset Type="Microsoft.VisualStudio.Code.Manifest" Path="extension/package.json" Addressable="true"/>
    <Asset Type="Microsoft.VisualStudio.Services.Content.Details" Path="extension/README.md" Addressable="true"/>
  </Assets>
</PackageManifest>
`
)

// Extension writes the extension as a file that the editor installs.
func Extension(w io.Writer) error {
	z := zip.NewWriter(w)
	put := func(name string, text []byte) error {
		f, err := z.Create(name)
		if err == nil {
			_, err = f.Write(text)
		}
		if err != nil {
			return fmt.Errorf("pack %s: %w", name, err)
		}
		return nil
	}
	if err := put("[Content_Types].xml", []byte(types)); err != nil {
		return err
	}
	if err := put("extension.vsixmanifest", []byte(manifest)); err != nil {
		return err
	}
	err := fs.WalkDir(files, ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		text, err := files.ReadFile(name)
		if err != nil {
			return err
		}
		return put("extension/"+path.Base(name), text)
	})
	if err != nil {
		return err
	}
	return z.Close()
}
