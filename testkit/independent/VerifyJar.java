import java.io.InputStream;
import java.security.CodeSigner;
import java.security.cert.X509Certificate;
import java.util.Enumeration;
import java.util.jar.JarEntry;
import java.util.jar.JarFile;

/** Verifies a JAR signature with Java's own library: every entry outside META-INF has to be signed. */
public class VerifyJar {
    public static void main(String[] arguments) throws Exception {
        int signed = 0;
        String who = "";
        byte[] buffer = new byte[8192];
        try (JarFile jar = new JarFile(arguments[0], true)) {
            for (Enumeration<JarEntry> all = jar.entries(); all.hasMoreElements(); ) {
                JarEntry entry = all.nextElement();
                if (entry.isDirectory() || entry.getName().startsWith("META-INF/")) {
                    continue;
                }
                try (InputStream stream = jar.getInputStream(entry)) {
                    while (stream.read(buffer) >= 0) {
                        // reading to the end is what verifies
                    }
                }
                CodeSigner[] signers = entry.getCodeSigners();
                if (signers == null || signers.length != 1) {
                    System.out.println("not signed: " + entry.getName());
                    System.exit(1);
                }
                who = ((X509Certificate) signers[0].getSignerCertPath().getCertificates().get(0))
                    .getSubjectX500Principal().getName("RFC1779");
                signed++;
            }
        }
        System.out.println(signed + " entries signed by " + who);
    }
}
