import java.io.FileInputStream;
import java.io.FileOutputStream;
import java.security.KeyStore;
import java.security.PrivateKey;
import java.security.Signature;
import java.util.Collections;

/** Reads a keystore with the Java runtime's own library, says what is in it, and writes it again when told so. */
public class ReadStore {
    public static void main(String[] words) throws Exception {
        char[] password = words[2].toCharArray();
        KeyStore store = KeyStore.getInstance(words[0]);
        try (FileInputStream in = new FileInputStream(words[1])) {
            store.load(in, password);
        }
        for (String alias : Collections.list(store.aliases())) {
            PrivateKey key = (PrivateKey) store.getKey(alias, password);
            String algorithm = key.getAlgorithm().equals("EC") ? "SHA256withECDSA" : "SHA256withRSA";
            Signature signature = Signature.getInstance(algorithm);
            signature.initSign(key);
            signature.update(new byte[] {1, 2, 3});
            byte[] signed = signature.sign();
            signature.initVerify(store.getCertificate(alias));
            signature.update(new byte[] {1, 2, 3});
            System.out.println(alias + ": " + key.getAlgorithm() + " key, "
                    + store.getCertificateChain(alias).length + " certificates, pair: " + signature.verify(signed));
        }
        if (words.length > 3) {
            // JKS takes a password for each key, PKCS#12 in Java wants the store's
            KeyStore copy = KeyStore.getInstance(words[3]);
            copy.load(null, null);
            char[] own = words[3].equals("JKS") ? words[5].toCharArray() : password;
            for (String alias : Collections.list(store.aliases())) {
                copy.setKeyEntry(alias, store.getKey(alias, password), own, store.getCertificateChain(alias));
            }
            try (FileOutputStream out = new FileOutputStream(words[4])) {
                copy.store(out, password);
            }
        }
    }
}
